<script setup lang="ts">
/** The paper: the trace and the drawing over it, brushed to fit, the trace coloured by its distance from the sketch. */
import { computed, ref, watch } from 'vue'
import { css, tideColor } from '../check/tide'
import { mm, short } from '../state/format'
import { useJob } from '../state/job'
import { useSketch } from './sketch'

const j = useJob()
const s = useSketch()
const svg = ref<SVGSVGElement | null>(null)
const box = ref({ x: -60, y: -40, w: 120, h: 80 })
const picked = ref<string | null>(null)
const stroke = ref<number[][]>([])

const bounds = computed(() => {
  const pts = (s.trace?.loops ?? []).flatMap((l: any) => l.points as number[][])
  if (!pts.length) return null
  const x = pts.map((p) => p[0]), y = pts.map((p) => p[1])
  return { x0: Math.min(...x), x1: Math.max(...x), y0: Math.min(...y), y1: Math.max(...y) }
})
function fit() {
  const b = bounds.value
  if (!b) return
  const w = Math.max(b.x1 - b.x0, 1), h = Math.max(b.y1 - b.y0, 1)
  box.value = { x: b.x0 - 0.24 * w, y: -b.y1 - 0.24 * h, w: 1.54 * w, h: 1.5 * h }
}
watch(() => [s.record?.axis, !!bounds.value, s.record?.id], fit, { immediate: true })
const unit = computed(() => box.value.w / Math.max(svg.value?.clientWidth ?? 450, 100))

const geometry = computed<any[]>(() => s.summary?.geometry ?? [])
function path(e: any): string {
  if (e.kind === 'line') return `M${e.start[0]} ${-e.start[1]}L${e.end[0]} ${-e.end[1]}`
  if (e.kind === 'circle') { const [x, y] = e.center, r = e.radius; return `M${x - r} ${-y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0` }
  const a = Math.atan2(e.start[1] - e.center[1], e.start[0] - e.center[0]), b = Math.atan2(e.end[1] - e.center[1], e.end[0] - e.center[0])
  const turn = (((e.ccw ? b - a : a - b) % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI)
  return `M${e.start[0]} ${-e.start[1]}A${e.radius} ${e.radius} 0 ${turn > Math.PI ? 1 : 0} ${e.ccw ? 0 : 1} ${e.end[0]} ${-e.end[1]}`
}
const away = computed(() => {
  const at = s.summary?.stretches ?? {}, d = s.summary?.away ?? {}
  const reach = Math.max(0.12, 4 * (s.summary?.rms ?? 0.03))
  return Object.keys(at).flatMap((id) => at[id].map((p: number[], i: number) => ({ x: p[0], y: -p[1], c: css(tideColor(d[id][i], reach / 6, reach)), off: Math.abs(d[id][i]) > reach / 6 })))
})
const labels = computed(() => {
  const by = new Map(geometry.value.map((e) => [e.id, e]))
  const b = bounds.value
  if (!b) return []
  const many: Record<string, number> = {}
  return (s.summary?.sizes ?? []).map((z: any) => {
    const e = by.get(z.of[0]), f = by.get(z.of[z.of.length - 1])
    if (!e || !f) return null
    const text = z.kind === 'diameter' || z.kind === 'radius' ? `${z.label} ${short(z.chosen)}` : short(z.chosen)
    const k = (many[z.kind] = (many[z.kind] ?? 0) + 1)
    const o = 22 * unit.value * k
    if (e.kind !== 'line') {
      if (z.kind === 'spacing_x') { const y = -e.center[1]; return { text, x: (e.center[0] + f.center[0]) / 2, y, line: `M${e.center[0]} ${y}L${f.center[0]} ${y}` } }
      if (z.kind === 'spacing_y') { const x = e.center[0]; return { text, x, y: -(e.center[1] + f.center[1]) / 2, line: `M${x} ${-e.center[1]}L${x} ${-f.center[1]}` } }
      // Beside the bore towards the middle of the drawing; outside the corner for an arc.
      if (e.kind === 'circle') return { text, x: e.center[0], y: -e.center[1] + (e.center[1] > 0.1 ? 1 : -1) * (e.radius + 14 * unit.value), line: '' }
      return { text, x: e.center[0] + Math.sign(e.center[0]) * (e.radius + 26 * unit.value), y: -e.center[1] - Math.sign(e.center[1]) * (e.radius + 8 * unit.value), line: '' }
    }
    const flat = Math.abs(e.end[1] - e.start[1]) < Math.abs(e.end[0] - e.start[0])
    if (flat) { const x = b.x1 + o; return { text, x, y: -(e.start[1] + f.start[1]) / 2, line: `M${x} ${-e.start[1]}L${x} ${-f.start[1]}` } }
    const y = -b.y0 + o
    return { text, x: (e.start[0] + f.start[0]) / 2, y, line: `M${e.start[0]} ${y}L${f.start[0]} ${y}` }
  }).filter(Boolean) as { text: string; x: number; y: number; line: string }[]
})

function at(e: PointerEvent | WheelEvent): number[] {
  const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.value!.getScreenCTM()!.inverse())
  return [p.x, -p.y]
}
let panFrom: number[] | null = null
function press(e: PointerEvent) {
  svg.value!.setPointerCapture(e.pointerId)
  if (s.tool && e.button === 0 && !e.shiftKey) stroke.value = [at(e)]
  else panFrom = at(e)
}
function drag(e: PointerEvent) {
  const p = at(e)
  if (stroke.value.length) {
    const l = stroke.value[stroke.value.length - 1]
    if (Math.hypot(p[0] - l[0], p[1] - l[1]) > 2 * unit.value) stroke.value = [...stroke.value, p]
  } else if (panFrom) box.value = { ...box.value, x: box.value.x - (p[0] - panFrom[0]), y: box.value.y + (p[1] - panFrom[1]) }
}
function release() {
  if (stroke.value.length && s.tool) s.brush(stroke.value, 9 * unit.value)
  stroke.value = []
  panFrom = null
}
function wheel(e: WheelEvent) {
  const k = Math.exp(Math.sign(e.deltaY) * 0.14), p = at(e)
  const b = box.value
  box.value = { x: p[0] - (p[0] - b.x) * k, y: -p[1] - (-p[1] - b.y) * k, w: b.w * k, h: b.h * k }
}
function key(e: KeyboardEvent) {
  if ((e.key === 'Delete' || e.key === 'Backspace') && picked.value && j.hand?.kind === 'sketch') { s.remove(picked.value); picked.value = null }
}
</script>

<template>
  <section class="relative border-l border-rule bg-white" aria-label="Paper" tabindex="0" @keydown="key">
    <svg
      ref="svg" class="absolute inset-0 h-full w-full touch-none" :viewBox="`${box.x} ${box.y} ${box.w} ${box.h}`" role="img" aria-label="Trace and sketch"
      :style="{ cursor: s.tool ? 'crosshair' : 'grab' }" @pointerdown="press" @pointermove="drag" @pointerup="release" @wheel.prevent="wheel" @dblclick="fit" @contextmenu.prevent
    >
      <g stroke="#85497A" :stroke-width="unit" :stroke-dasharray="`${9 * unit} ${3 * unit} ${2 * unit} ${3 * unit}`">
        <line :x1="box.x" :x2="box.x + box.w" y1="0" y2="0" /><line x1="0" x2="0" :y1="box.y" :y2="box.y + box.h" />
      </g>
      <g fill="none" stroke="#C9B48A" :stroke-width="2.2 * unit" stroke-linejoin="round">
        <path v-for="(l, i) in s.trace?.loops ?? []" :key="i" :d="'M' + (l as any).points.map((p: number[]) => `${p[0]} ${-p[1]}`).join('L') + ((l as any).closed ? 'Z' : '')" />
      </g>
      <g><circle v-for="(p, i) in away" :key="i" :cx="p.x" :cy="p.y" :r="(p.off ? 2.6 : 1.7) * unit" :fill="p.c" stroke="#8a7a58" :stroke-width="0.3 * unit" /></g>
      <g fill="none">
        <g v-for="e in geometry" :key="e.id">
          <path :d="path(e)" :stroke="picked === e.id ? '#E79A12' : '#1E3C66'" :stroke-width="(picked === e.id ? 3 : 1.8) * unit" />
          <path :d="path(e)" stroke="transparent" :stroke-width="12 * unit" class="cursor-pointer" :data-entity="e.id" @click="picked = picked === e.id ? null : e.id"><title>{{ e.kind }} {{ e.id }}</title></path>
        </g>
        <path v-for="(l, i) in labels" :key="'d' + i" :d="l.line" stroke="#6A655C" :stroke-width="0.8 * unit" />
        <polyline v-if="stroke.length" :points="stroke.map((p) => `${p[0]},${-p[1]}`).join(' ')" stroke="#E79A12" stroke-opacity=".45" :stroke-width="18 * unit" stroke-linecap="round" stroke-linejoin="round" />
      </g>
      <g v-for="(l, i) in labels" :key="'t' + i">
        <rect :x="l.x - (l.text.length * 3.6 + 6) * unit" :y="l.y - 9.5 * unit" :width="(l.text.length * 7.2 + 12) * unit" :height="19 * unit" fill="#FBF9F4" stroke="#D5CCBC" :stroke-width="unit" :rx="2 * unit" />
        <text :x="l.x" :y="l.y + 4 * unit" text-anchor="middle" :font-size="12 * unit" font-family="IBM Plex Mono">{{ l.text }}</text>
      </g>
    </svg>
    <p v-if="s.record && !bounds" class="absolute inset-x-0 top-1/2 text-center text-soft">The plane cuts nothing here. Move it to where the part is.</p>
    <p v-if="s.record" class="absolute bottom-2.5 left-3.5 text-[12px] text-soft">
      cut square to {{ s.record.axis }} at {{ mm(s.record.height, 2, j.inches) }} {{ j.inches ? 'in' : 'mm' }}<template v-if="s.summary"> · rms {{ mm(s.summary.rms) }} · {{ s.summary.freedom ? `${s.summary.freedom} held by scan` : 'nothing free' }}<template v-if="s.summary.unseen">, {{ s.summary.unseen }} held by nothing</template></template>
    </p>
    <p v-if="s.drawing || j.previewing" class="absolute bottom-2.5 right-3.5 text-[12px] text-soft" role="status">solving</p>
  </section>
</template>
