<script setup lang="ts">
/**
 * The paper: traces and the drawing over them. Fits are brushed or clicked, shapes drawn from place to
 * place, ends dragged; each entity shows by its colour what holds it.
 */
import { computed, ref, watch } from 'vue'
import { css, tideColor } from '../check/tide'
import { typed } from '../state/format'
import { labelsOf, type Bounds, type Label } from './labels'
import { marksOf } from './marks'
import PaperFoot from './PaperFoot.vue'
import PaperStrip from './PaperStrip.vue'
import { pathOf, placesOf, type Entity, type XY } from './shapes'
import { useSketch } from './sketch'
import { TOOLS } from './tools'

const s = useSketch()
const svg = ref<SVGSVGElement | null>(null)
const box = ref({ x: -60, y: -40, w: 120, h: 80 })
const stroke = ref<XY[]>([])
const pointer = ref<XY | null>(null)

const shownTraces = computed(() =>
  (s.trace?.traces ?? []).flatMap((loops, k) => (s.record?.traces?.[k]?.hidden ? [] : loops)),
)
const geometry = computed<Entity[]>(() => s.ghost ?? (s.summary?.geometry as Entity[] | undefined) ?? [])
const bounds = computed<Bounds | null>(() => {
  const drawn = geometry.value.flatMap((e) => placesOf(e).map((p) => p.at))
  const pts = shownTraces.value.length ? shownTraces.value.flatMap((l) => l.points) : drawn
  if (!pts.length) return null
  let [x0, x1, y0, y1] = [Infinity, -Infinity, Infinity, -Infinity]
  for (const [x, y] of pts) {
    x0 = Math.min(x0, x)
    x1 = Math.max(x1, x)
    y0 = Math.min(y0, y)
    y1 = Math.max(y1, y)
  }
  return { x0, x1, y0, y1 }
})
function fit() {
  const b = bounds.value
  const el = svg.value
  if (!b) return
  const w = Math.max(b.x1 - b.x0, 1e-9)
  const h = Math.max(b.y1 - b.y0, 1e-9)
  // The trace fills what the strip and the foot leave, with room for sizes at its right and below.
  const [pw, ph] = [el?.clientWidth || 450, el?.clientHeight || 560]
  // Sizes stand so many pixels beside the trace at any scale; before there are any, room is kept for one row.
  const beside = (far: (l: Label) => number, least: number) =>
    Math.max(least, ...placedLabels.value.map((l) => far(l) / unit.value + 6))
  const any = placedLabels.value.length > 0
  const left = beside((l) => b.x0 - l.x + halfOf(l), 22)
  const right = beside((l) => l.x + halfOf(l) - b.x1, any ? 22 : 62)
  const low = beside((l) => l.y + b.y0, any ? 30 : 64) + 20
  const top = s.editing ? 78 : 16
  const scale = Math.max(w / (pw - left - right), h / (ph - top - low))
  const [bw, bh] = [pw * scale, ph * scale]
  const x = b.x0 - left * scale - Math.max(0, (bw - (left + right) * scale - w) / 2)
  const y = -b.y1 - top * scale - Math.max(0, (bh - (top + low) * scale - h) / 2)
  box.value = { x, y, w: bw, h: bh }
}
/** Which way the trace that is there looks: it comes a while after another axis was asked for. */
const facing = computed(() => {
  const n = s.trace?.plane.normal.map(Math.abs) ?? []
  return n.indexOf(Math.max(...n))
})
const outline = computed(() => {
  const r = s.record
  return `${facing.value} ${r?.axis} ${r?.along} ${r?.on} ${!!bounds.value} ${s.editing} ${r?.traces?.map((t) => t.kind).join()}`
})
watch(outline, fit, { flush: 'post', immediate: true })
// The whole trace drawn at once brings sizes with it, which need room beside it.
let comes = false
watch(
  () => s.way,
  (way) => (comes = way !== null),
)
watch(
  () => s.summary,
  (told) => {
    if (!told || !comes) return
    comes = false
    fit()
  },
  { flush: 'post' },
)
const unit = computed(() => box.value.w / Math.max(svg.value?.clientWidth ?? 450, 100))
watch(unit, (u) => (s.reach = 9 * u), { immediate: true })

const COLOURS: Record<string, string> = {
  free: 'var(--color-rust)',
  'held by scan': 'var(--color-inkblue)',
  fixed: 'var(--color-ink)',
}
const bad = computed(() => {
  const out = new Set<string>()
  const r = s.mine
  for (const [what, k] of s.summary?.contradiction ?? [])
    for (const n of (what === 'relation' ? r?.relations[k as number]?.of : r?.sizes[k as number]?.of) ?? [])
      out.add(String(n).split('.')[0])
  return out
})
const colour = (e: Entity) =>
  bad.value.has(e.id)
    ? 'var(--color-brick)'
    : (COLOURS[s.summary?.states?.[e.id] ?? ''] ?? 'var(--color-inkblue)')
const dash = (e: Entity) =>
  e.construction ? `${7 * unit.value} ${2.5 * unit.value} ${1.5 * unit.value} ${2.5 * unit.value}` : undefined
const isPicked = (e: Entity) => s.of.some((n) => n.split('.')[0] === e.id)

const away = computed(() => {
  if (s.ghost) return []
  const at = s.summary?.stretches ?? {}
  const d = s.summary?.away ?? {}
  const reach = s.scale
  return Object.keys(at).flatMap((id) => {
    const p = at[id]
    return p.slice(0, d[id].length).map((q, i) => {
      const [a, b] = [p[Math.max(0, i - 1)], p[Math.min(p.length - 1, i + 1)]]
      const l = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1
      const k = (20 * unit.value * d[id][i]) / reach
      return {
        x: q[0],
        y: -q[1],
        hx: (-(b[1] - a[1]) / l) * k,
        hy: (-(b[0] - a[0]) / l) * k,
        c: css(tideColor(d[id][i], reach / 6, reach)),
        off: Math.abs(d[id][i]) > reach / 6,
      }
    })
  })
})
const placedLabels = computed<Label[]>(() =>
  s.ghost ? [] : labelsOf(s.summary?.sizes ?? [], geometry.value, unit.value, bounds.value),
)
const halfOf = (l: Label) => (l.text.length * 3.6 + 8) * unit.value
/** None is cut off by the paper's edge. */
const labels = computed<Label[]>(() => {
  const b = box.value
  return placedLabels.value.map((l) => {
    const half = halfOf(l)
    return { ...l, x: Math.min(Math.max(l.x, b.x + half), b.x + b.w - half) }
  })
})
const marks = computed(() => {
  if (s.ghost || !s.editing) return []
  const all = marksOf(
    s.summary?.relations ?? [],
    geometry.value,
    s.of.length ? new Set(s.of.map((n) => n.split('.')[0])) : null,
  )
  const few = all.length <= 60 || s.of.length ? all : all.filter((m) => m.bad)
  const rows = new Map<string, number>()
  return few.map((m) => {
    const at = `${m.at[0].toFixed(4)} ${m.at[1].toFixed(4)}`
    const n = rows.get(at) ?? 0
    rows.set(at, n + 1)
    return { ...m, x: m.at[0] + (9 + 17 * n) * unit.value, y: -m.at[1] - 7 * unit.value }
  })
})
/** The places of what is picked, of what the pointer is near, and all of them while a tool takes places. */
const places = computed(() => {
  if (!s.editing) return []
  const p = pointer.value
  const near = 14 * unit.value
  return geometry.value.flatMap((e) =>
    placesOf(e).filter(
      (h) =>
        (!h.pole || isPicked(e)) &&
        (isPicked(e) || s.of.includes(h.name) || (p && Math.hypot(h.at[0] - p[0], h.at[1] - p[1]) < near)),
    ),
  )
})
/** The stretch of the trace under the pointer, while something is fitted. */
const lit = computed(() => {
  const p = pointer.value
  if (!p || s.tool?.takes !== 'stretch' || stroke.value.length) return null
  let best: { d: number; points: number[][]; text: string } | null = null
  for (const x of s.stretches)
    for (const q of x.points) {
      const d = Math.hypot(q[0] - p[0], q[1] - p[1])
      if (d < 16 * unit.value && (!best || d < best.d))
        best = {
          d,
          points: x.points,
          text: x.kind === 'line' ? `straight ${x.size.toFixed(2)}` : `R ${x.size.toFixed(2)}`,
        }
    }
  return best
})
const course = (l: { points: number[][]; closed: boolean }) =>
  'M' + l.points.map((p) => `${p[0]} ${-p[1]}`).join('L') + (l.closed ? 'Z' : '')

/** What is aimed at: of a place a speck, as wide as a line is. */
const aimed = (outline: number[][]) =>
  (outline.length > 1 ? outline : [outline[0], [outline[0][0] + 1e-9, outline[0][1]]])
    .map((p) => `${p[0]},${-p[1]}`)
    .join(' ')

function at(e: { clientX: number; clientY: number }): XY {
  const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.value!.getScreenCTM()!.inverse())
  return [p.x, -p.y]
}
/** The place or entity under the pointer: places first. */
function under(p: XY): string | null {
  const near = 8 * unit.value
  let best: { d: number; name: string } | null = null
  for (const e of geometry.value)
    for (const h of placesOf(e)) {
      const d = Math.hypot(h.at[0] - p[0], h.at[1] - p[1])
      if (d < near && (!best || d < best.d) && (!h.pole || isPicked(e))) best = { d, name: h.name }
    }
  if (Math.hypot(p[0], p[1]) < near && !best) return 'origin'
  return best?.name ?? null
}
const axisUnder = (p: XY) => {
  const near = 6 * unit.value
  return Math.abs(p[1]) < near ? 'axis_x' : Math.abs(p[0]) < near ? 'axis_y' : null
}

let panFrom: XY | null = null
let pressed: { name: string | null; x: number; y: number; moved: boolean } | null = null
function press(e: PointerEvent) {
  svg.value!.setPointerCapture(e.pointerId)
  svg.value!.focus({ preventScroll: true })
  const p = at(e)
  const hit = e.target as Element
  const target = hit.getAttribute('data-entity') ?? hit.getAttribute('data-seen')
  const on = s.editing ? (under(p) ?? target ?? axisUnder(p)) : target
  pressed = { name: on, x: e.clientX, y: e.clientY, moved: false }
  if (e.button !== 0 || (e.shiftKey && !on)) panFrom = p
  else if (s.tool?.takes === 'stretch') stroke.value = [p]
  else if (!s.tool && s.editing && on && on !== 'origin' && !on.startsWith('axis')) {
    if (on.includes('.') || geometry.value.find((g) => g.id === on)?.kind === 'point') s.dragging = on
  } else if (!s.tool) panFrom = p
}
function drag(e: PointerEvent) {
  const p = at(e)
  pointer.value = p
  if (!pressed) return
  if (Math.hypot(e.clientX - pressed.x, e.clientY - pressed.y) > 4) pressed.moved = true
  if (stroke.value.length) {
    const l = stroke.value[stroke.value.length - 1]
    if (Math.hypot(p[0] - l[0], p[1] - l[1]) > 2 * unit.value) stroke.value = [...stroke.value, p]
  } else if (s.dragging && pressed.moved) s.pull(s.dragging, p)
  else if (panFrom)
    box.value = { ...box.value, x: box.value.x - (p[0] - panFrom[0]), y: box.value.y + (p[1] - panFrom[1]) }
}
function release(e: PointerEvent) {
  const p = at(e)
  const was = pressed
  pressed = null
  const path = stroke.value
  stroke.value = []
  const panned = !!panFrom && was?.moved
  panFrom = null
  if (s.dragging && was?.moved) return s.drop(s.dragging, p)
  s.dragging = ''
  if (!was || panned || e.button !== 0) return
  const t = s.tool
  if (t?.takes === 'stretch') return was.moved && path.length > 2 ? s.brush(path, s.reach) : s.place(p)
  if (t?.takes === 'places') return s.place(p)
  if (t)
    return was.name && was.name !== 'origin'
      ? s.entity(was.name, p)
      : was.name === 'origin'
        ? s.entity('origin', p)
        : undefined
  if (!s.editing) return
  if (was.name) s.pick(was.name, e.shiftKey)
  else if (!was.moved) s.of = []
}
function wheel(e: WheelEvent) {
  const k = Math.exp(Math.sign(e.deltaY) * 0.14)
  const p = at(e)
  const b = box.value
  box.value = { x: p[0] - (p[0] - b.x) * k, y: -p[1] - (-p[1] - b.y) * k, w: b.w * k, h: b.h * k }
}
function twice() {
  if (s.tool?.count === 0 && s.tool.takes === 'places') s.send(s.given.slice(0, -1))
  else if (!s.tool) fit()
}
function key(e: KeyboardEvent) {
  if (!s.editing || e.ctrlKey || e.metaKey || e.altKey || (e.target as HTMLElement).matches('input')) return
  const stop = () => {
    e.preventDefault()
    e.stopPropagation()
  }
  if (e.key === 'Escape') return s.back() ? stop() : undefined
  if (e.key === 'Enter' && s.tool?.count === 0) {
    stop()
    return s.send()
  }
  if (e.key === 'Delete' || e.key === 'Backspace') {
    stop()
    return s.of.length ? s.make({ do: 'remove', of: s.of }) : undefined
  }
  if (e.key === 'h') {
    stop()
    s.hairs = !s.hairs
    return
  }
  const group = s.group === 'relate' || s.group === 'size' ? 'change' : s.group
  const t = TOOLS.find((x) => x.group === group && x.key === e.key)
  if (t) {
    stop()
    s.take(t)
  }
}

// A size typed where it is written.
const typing = ref<{ index: number; text: string; x: number; y: number } | null>(null)
function write(l: Label) {
  if (!s.editing) return
  const p = new DOMPoint(l.x, l.y).matrixTransform(svg.value!.getScreenCTM()!)
  const b = svg.value!.getBoundingClientRect()
  typing.value = {
    index: l.index,
    text: String(s.summary!.sizes[l.index].chosen ?? ''),
    x: p.x - b.x,
    y: p.y - b.y,
  }
}
function written() {
  const v = typed(typing.value?.text ?? '')
  if (v !== null && typing.value) s.choose(typing.value.index, v, 'typed')
  typing.value = null
}
</script>

<template>
  <section class="relative border-l border-rule bg-white" aria-label="Paper" @keydown="key">
    <svg
      ref="svg"
      class="absolute inset-0 h-full w-full touch-none outline-none"
      :viewBox="`${box.x} ${box.y} ${box.w} ${box.h}`"
      role="img"
      tabindex="0"
      aria-label="Trace and sketch"
      :style="{ cursor: s.tool ? 'crosshair' : 'default' }"
      @pointerdown="press"
      @pointermove="drag"
      @pointerup="release"
      @pointerleave="pointer = null"
      @wheel.prevent="wheel"
      @dblclick="twice"
      @contextmenu.prevent
    >
      <g
        stroke="var(--color-plum)"
        :stroke-width="unit"
        :stroke-dasharray="`${9 * unit} ${3 * unit} ${2 * unit} ${3 * unit}`"
      >
        <line :x1="box.x" :x2="box.x + box.w" y1="0" y2="0" />
        <line x1="0" x2="0" :y1="box.y" :y2="box.y + box.h" />
      </g>
      <g fill="none" stroke="var(--color-sand)" :stroke-width="2.2 * unit" stroke-linejoin="round">
        <path v-for="(l, i) in shownTraces" :key="i" :d="course(l)" />
      </g>
      <g fill="none" stroke="var(--color-plum)" :stroke-width="1.4 * unit">
        <polyline
          v-for="e in s.trace?.projected ?? []"
          :key="e.id"
          :points="e.outline.map((p) => `${p[0]},${-p[1]}`).join(' ')"
          :stroke="s.of.includes(e.id) ? 'var(--color-saffron)' : undefined"
        />
        <circle
          v-for="e in (s.trace?.projected ?? []).filter((x) => x.kind === 'point')"
          :key="`${e.id} place`"
          :cx="e.outline[0][0]"
          :cy="-e.outline[0][1]"
          :r="3 * unit"
          :stroke="s.of.includes(e.id) ? 'var(--color-saffron)' : undefined"
        />
        <g v-if="s.editing" stroke="transparent" :stroke-width="11 * unit">
          <polyline
            v-for="e in s.trace?.projected ?? []"
            :key="`${e.id} hit`"
            :points="aimed(e.outline)"
            class="cursor-pointer"
            :data-seen="e.id"
            stroke-linecap="round"
          >
            <title>{{ e.kind }} {{ e.id }}, seen here</title>
          </polyline>
        </g>
      </g>
      <polyline
        v-if="lit"
        :points="lit.points.map((p) => `${p[0]},${-p[1]}`).join(' ')"
        fill="none"
        stroke="var(--color-saffron)"
        :stroke-width="5 * unit"
        stroke-opacity=".6"
        stroke-linecap="round"
      />
      <g>
        <template v-for="(p, i) in away" :key="i">
          <line
            v-if="s.hairs"
            :x1="p.x"
            :y1="p.y"
            :x2="p.x + p.hx"
            :y2="p.y + p.hy"
            :stroke="p.c"
            :stroke-width="1.2 * unit"
          />
          <circle
            :cx="p.x"
            :cy="p.y"
            :r="(p.off ? 2.6 : 1.7) * unit"
            :fill="p.c"
            stroke="#8a7a58"
            :stroke-width="0.3 * unit"
          />
        </template>
      </g>
      <g fill="none">
        <g v-for="e in geometry" :key="e.id">
          <path
            :d="pathOf(e)"
            :stroke="isPicked(e) ? 'var(--color-saffron)' : colour(e)"
            :stroke-width="(isPicked(e) ? 3 : e.kind === 'point' ? 6 : 1.8) * unit"
            :stroke-dasharray="dash(e)"
            :stroke-linecap="e.kind === 'point' ? 'round' : 'butt'"
          />
          <polyline
            v-if="e.kind === 'spline' && isPicked(e)"
            :points="e.poles!.map((p) => `${p[0]},${-p[1]}`).join(' ')"
            stroke="var(--color-soft)"
            :stroke-width="0.7 * unit"
            :stroke-dasharray="`${3 * unit} ${3 * unit}`"
          />
          <path
            :d="pathOf(e)"
            stroke="transparent"
            :stroke-width="12 * unit"
            class="cursor-pointer"
            :data-entity="e.id"
            :data-state="s.summary?.states?.[e.id]"
          >
            <title>
              {{ e.kind }} {{ e.id }}{{ s.summary?.states?.[e.id] ? ', ' + s.summary.states[e.id] : '' }}
            </title>
          </path>
        </g>
        <path
          v-for="(l, i) in labels"
          :key="'d' + i"
          :d="l.line"
          stroke="var(--color-soft)"
          :stroke-width="0.7 * unit"
        />
        <polyline
          v-if="stroke.length"
          :points="stroke.map((p) => `${p[0]},${-p[1]}`).join(' ')"
          stroke="var(--color-saffron)"
          stroke-opacity=".45"
          :stroke-width="18 * unit"
          stroke-linecap="round"
          stroke-linejoin="round"
        />
        <polyline
          v-if="s.given.length && s.tool?.takes === 'places'"
          :points="[...s.given, ...(pointer ? [pointer] : [])].map((p) => `${p[0]},${-p[1]}`).join(' ')"
          stroke="var(--color-saffron)"
          :stroke-width="1.2 * unit"
          :stroke-dasharray="`${4 * unit} ${3 * unit}`"
        />
      </g>
      <g>
        <rect
          v-for="h in places"
          :key="h.name"
          :x="h.at[0] - 3.2 * unit"
          :y="-h.at[1] - 3.2 * unit"
          :width="6.4 * unit"
          :height="6.4 * unit"
          :fill="s.of.includes(h.name) ? 'var(--color-saffron)' : 'var(--color-white)'"
          stroke="var(--color-ink)"
          :stroke-width="1.1 * unit"
          :data-place="h.name"
          class="pointer-events-none"
        />
        <circle
          v-for="(g, i) in s.given"
          :key="'g' + i"
          :cx="g[0]"
          :cy="-g[1]"
          :r="3 * unit"
          fill="var(--color-saffron)"
        />
      </g>
      <g font-family="IBM Plex Mono" :font-size="10.5 * unit" class="pointer-events-none">
        <text
          v-for="m in marks"
          :key="m.key"
          :x="m.x"
          :y="m.y"
          :fill="m.bad ? 'var(--color-brick)' : 'var(--color-soft)'"
          text-anchor="middle"
        >
          {{ m.sign }}
        </text>
      </g>
      <g
        v-for="(l, i) in labels"
        :key="'t' + i"
        :class="s.tool ? 'pointer-events-none' : 'cursor-pointer'"
        :data-size="l.id"
        @click.stop="write(l)"
        @pointerdown.stop
      >
        <rect
          :x="l.x - (l.text.length * 3.6 + 6) * unit"
          :y="l.y - 9.5 * unit"
          :width="(l.text.length * 7.2 + 12) * unit"
          :height="19 * unit"
          :fill="l.held ? 'var(--color-sheet)' : 'var(--color-white)'"
          :stroke="l.held ? 'var(--color-ink)' : 'var(--color-rule)'"
          :stroke-width="unit"
          :rx="2 * unit"
        />
        <text
          :x="l.x"
          :y="l.y + 4 * unit"
          text-anchor="middle"
          fill="var(--color-ink)"
          :font-size="12 * unit"
          font-family="IBM Plex Mono"
        >
          {{ l.text }}
        </text>
      </g>
      <text
        v-if="lit && pointer"
        :x="pointer[0] + 12 * unit"
        :y="-pointer[1] - 10 * unit"
        :font-size="12 * unit"
        font-family="IBM Plex Mono"
        fill="var(--color-ink)"
        paint-order="stroke"
        stroke="var(--color-white)"
        :stroke-width="3 * unit"
      >
        {{ lit.text }}
      </text>
    </svg>
    <PaperStrip v-if="s.editing" />
    <form
      v-if="typing"
      class="absolute z-[5] -translate-x-1/2 -translate-y-1/2"
      :style="{ left: typing.x + 'px', top: typing.y + 'px' }"
      @submit.prevent="written"
    >
      <input
        v-model="typing.text"
        class="field fig w-[78px]"
        aria-label="Size"
        autofocus
        @vue:mounted="($event.el as HTMLInputElement).select()"
        @keydown.stop="$event.key === 'Escape' && (typing = null)"
        @blur="typing = null"
      />
    </form>
    <p v-if="s.record && !bounds" class="absolute inset-x-0 top-1/2 text-center text-soft">
      The plane cuts nothing here. Move it to where the part is.
    </p>
    <PaperFoot />
  </section>
</template>
