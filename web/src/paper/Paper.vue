<script setup lang="ts">
/**
 * The paper: the trace and the drawing over it, brushed to fit, the trace coloured by its distance from the
 * sketch.
 */
import { computed, ref, watch } from 'vue'
import { css, tideColor } from '../check/tide'
import { mm, short } from '../state/format'
import type { Schemas } from '../api/types'
import { useHand } from '../state/hand'
import { useShown } from '../state/shown'
import { useSketch } from './sketch'

type Entity = Schemas['Entity']
const hand = useHand()
const shown = useShown()
const s = useSketch()
const svg = ref<SVGSVGElement | null>(null)
const box = ref({ x: -60, y: -40, w: 120, h: 80 })
const picked = ref<string | null>(null)
const stroke = ref<number[][]>([])

const bounds = computed(() => {
  const pts = (s.trace?.loops ?? []).flatMap((l) => l.points)
  if (!pts.length) return null
  const x = pts.map((p) => p[0]),
    y = pts.map((p) => p[1])
  return { x0: Math.min(...x), x1: Math.max(...x), y0: Math.min(...y), y1: Math.max(...y) }
})
function fit() {
  const b = bounds.value
  if (!b) return
  const w = Math.max(b.x1 - b.x0, 1e-9),
    h = Math.max(b.y1 - b.y0, 1e-9)
  box.value = { x: b.x0 - 0.24 * w, y: -b.y1 - 0.24 * h, w: 1.54 * w, h: 1.5 * h }
}
watch(() => [s.record?.axis, !!bounds.value, s.editing], fit, { immediate: true })
const unit = computed(() => box.value.w / Math.max(svg.value?.clientWidth ?? 450, 100))

const geometry = computed<Entity[]>(() => s.summary?.geometry ?? [])
function path(e: Entity): string {
  if (e.kind === 'line') return `M${e.start![0]} ${-e.start![1]}L${e.end![0]} ${-e.end![1]}`
  const [x, y] = e.center!
  const r = e.radius!
  if (e.kind === 'circle') return `M${x - r} ${-y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`
  const angle = (p: number[]) => Math.atan2(p[1] - y, p[0] - x)
  const a = angle(e.start!)
  const b = angle(e.end!)
  const turn = (((e.ccw ? b - a : a - b) % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI)
  const far = turn > Math.PI ? 1 : 0
  return `M${e.start![0]} ${-e.start![1]}A${r} ${r} 0 ${far} ${e.ccw ? 0 : 1} ${e.end![0]} ${-e.end![1]}`
}
const away = computed(() => {
  const at = s.summary?.stretches ?? {}
  const d = s.summary?.away ?? {}
  const reach = Math.max(1e-9, 4 * (s.summary?.rms || s.summary?.noise || 0))
  return Object.keys(at).flatMap((id) =>
    at[id].map((p, i) => ({
      x: p[0],
      y: -p[1],
      c: css(tideColor(d[id][i], reach / 6, reach)),
      off: Math.abs(d[id][i]) > reach / 6,
    })),
  )
})
type Label = { text: string; x: number; y: number; line: string }
const labels = computed<Label[]>(() => {
  const b = bounds.value
  if (!b) return []
  const by = new Map(geometry.value.map((e) => [e.id, e]))
  const many: Record<string, number> = {}
  return (s.summary?.sizes ?? []).flatMap((z) => {
    const e = by.get(z.of[0])
    const f = by.get(z.of[z.of.length - 1])
    if (!e || !f || z.chosen === null) return []
    const round = z.kind === 'diameter' || z.kind === 'radius'
    const text = round ? `${z.label} ${short(z.chosen)}` : short(z.chosen)
    many[z.kind] = (many[z.kind] ?? 0) + 1
    return [{ text, ...placeOf(z.kind, e, f, 22 * unit.value * many[z.kind], b) }]
  })
})
/** Where a size is written, and the line it measures along. */
function placeOf(kind: string, e: Entity, f: Entity, o: number, b: NonNullable<typeof bounds.value>) {
  if (e.kind !== 'line') {
    const [ex, ey] = e.center!
    const [fx, fy] = f.center ?? e.center!
    if (kind === 'spacing_x') return { x: (ex + fx) / 2, y: -ey, line: `M${ex} ${-ey}L${fx} ${-ey}` }
    if (kind === 'spacing_y') return { x: ex, y: -(ey + fy) / 2, line: `M${ex} ${-ey}L${ex} ${-fy}` }
    const r = e.radius!
    // Beside the bore towards the middle of the drawing; outside the corner for an arc.
    if (e.kind === 'circle') return { x: ex, y: -ey + (ey > 1e-6 ? 1 : -1) * (r + 14 * unit.value), line: '' }
    const x = ex + Math.sign(ex) * (r + 26 * unit.value)
    return { x, y: -ey - Math.sign(ey) * (r + 8 * unit.value), line: '' }
  }
  const start = e.start!
  const end = e.end!
  const other = f.start ?? f.center!
  const flat = Math.abs(end[1] - start[1]) < Math.abs(end[0] - start[0])
  if (flat) {
    const x = b.x1 + o
    return { x, y: -(start[1] + other[1]) / 2, line: `M${x} ${-start[1]}L${x} ${-other[1]}` }
  }
  const y = -b.y0 + o
  return { x: (start[0] + other[0]) / 2, y, line: `M${start[0]} ${y}L${other[0]} ${y}` }
}
const course = (l: { points: number[][]; closed: boolean }) =>
  'M' + l.points.map((p) => `${p[0]} ${-p[1]}`).join('L') + (l.closed ? 'Z' : '')

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
  } else if (panFrom)
    box.value = { ...box.value, x: box.value.x - (p[0] - panFrom[0]), y: box.value.y + (p[1] - panFrom[1]) }
}
function release() {
  if (stroke.value.length && s.tool) s.brush(stroke.value, 9 * unit.value)
  stroke.value = []
  panFrom = null
}
function wheel(e: WheelEvent) {
  const k = Math.exp(Math.sign(e.deltaY) * 0.14),
    p = at(e)
  const b = box.value
  box.value = { x: p[0] - (p[0] - b.x) * k, y: -p[1] - (-p[1] - b.y) * k, w: b.w * k, h: b.h * k }
}
function key(e: KeyboardEvent) {
  if ((e.key === 'Delete' || e.key === 'Backspace') && picked.value && s.editing) {
    s.remove(picked.value)
    picked.value = null
  }
}
</script>

<template>
  <section class="relative border-l border-rule bg-white" aria-label="Paper" tabindex="0" @keydown="key">
    <svg
      ref="svg"
      class="absolute inset-0 h-full w-full touch-none"
      :viewBox="`${box.x} ${box.y} ${box.w} ${box.h}`"
      role="img"
      aria-label="Trace and sketch"
      :style="{ cursor: s.tool ? 'crosshair' : 'grab' }"
      @pointerdown="press"
      @pointermove="drag"
      @pointerup="release"
      @wheel.prevent="wheel"
      @dblclick="fit"
      @contextmenu.prevent
    >
      <g
        stroke="#85497A"
        :stroke-width="unit"
        :stroke-dasharray="`${9 * unit} ${3 * unit} ${2 * unit} ${3 * unit}`"
      >
        <line :x1="box.x" :x2="box.x + box.w" y1="0" y2="0" />
        <line x1="0" x2="0" :y1="box.y" :y2="box.y + box.h" />
      </g>
      <g fill="none" stroke="#C9B48A" :stroke-width="2.2 * unit" stroke-linejoin="round">
        <path v-for="(l, i) in s.trace?.loops ?? []" :key="i" :d="course(l)" />
      </g>
      <g>
        <circle
          v-for="(p, i) in away"
          :key="i"
          :cx="p.x"
          :cy="p.y"
          :r="(p.off ? 2.6 : 1.7) * unit"
          :fill="p.c"
          stroke="#8a7a58"
          :stroke-width="0.3 * unit"
        />
      </g>
      <g fill="none">
        <g v-for="e in geometry" :key="e.id">
          <path
            :d="path(e)"
            :stroke="picked === e.id ? '#E79A12' : '#1E3C66'"
            :stroke-width="(picked === e.id ? 3 : 1.8) * unit"
          />
          <path
            :d="path(e)"
            stroke="transparent"
            :stroke-width="12 * unit"
            class="cursor-pointer"
            :data-entity="e.id"
            @click="picked = picked === e.id ? null : e.id"
          >
            <title>{{ e.kind }} {{ e.id }}</title>
          </path>
        </g>
        <path
          v-for="(l, i) in labels"
          :key="'d' + i"
          :d="l.line"
          stroke="#6A655C"
          :stroke-width="0.8 * unit"
        />
        <polyline
          v-if="stroke.length"
          :points="stroke.map((p) => `${p[0]},${-p[1]}`).join(' ')"
          stroke="#E79A12"
          stroke-opacity=".45"
          :stroke-width="18 * unit"
          stroke-linecap="round"
          stroke-linejoin="round"
        />
      </g>
      <g v-for="(l, i) in labels" :key="'t' + i">
        <rect
          :x="l.x - (l.text.length * 3.6 + 6) * unit"
          :y="l.y - 9.5 * unit"
          :width="(l.text.length * 7.2 + 12) * unit"
          :height="19 * unit"
          fill="#FBF9F4"
          stroke="#D5CCBC"
          :stroke-width="unit"
          :rx="2 * unit"
        />
        <text
          :x="l.x"
          :y="l.y + 4 * unit"
          text-anchor="middle"
          :font-size="12 * unit"
          font-family="IBM Plex Mono"
        >
          {{ l.text }}
        </text>
      </g>
    </svg>
    <p v-if="s.record && !bounds" class="absolute inset-x-0 top-1/2 text-center text-soft">
      The plane cuts nothing here. Move it to where the part is.
    </p>
    <p v-if="s.record" class="absolute bottom-2.5 left-3.5 text-[12px] text-soft">
      cut square to {{ s.record.axis }} at {{ mm(s.record.height, 2, shown.inches) }}
      {{ shown.inches ? 'in' : 'mm'
      }}<template v-if="s.summary">
        · rms {{ mm(s.summary.rms) }} ·
        {{ s.summary.freedom ? `${s.summary.freedom} held by scan` : 'nothing free'
        }}<template v-if="s.summary.unseen">, {{ s.summary.unseen }} held by nothing</template></template
      >
    </p>
    <p
      v-if="s.drawing || hand.previewing"
      class="absolute bottom-2.5 right-3.5 text-[12px] text-soft"
      role="status"
    >
      solving
    </p>
  </section>
</template>
