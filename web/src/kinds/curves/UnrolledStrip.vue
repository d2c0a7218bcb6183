<script setup lang="ts">
/**
 * The scan's relief about the axis laid flat, turn across and height up, two turns wide; the helix as
 * slanting lines over it: dragged to shift, pulled at an end to tilt, bent where B is held. Beside it crest
 * and root.
 */
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { mm } from '../../state/format'
import { useStep } from '../useStep'
import {
  WIDE,
  firstTurn,
  nearest,
  onStrip,
  pulled,
  settle,
  type Pull,
  type Record,
  type Sample,
  type Told,
} from './strip'

const { hand, r, told } = useStep<Record, Told>()
const box = ref<HTMLDivElement | null>(null)
const canvas = ref<HTMLCanvasElement | null>(null)
const size = ref({ w: 400, h: 500 })
let watcher: ResizeObserver | null = null
onMounted(() => {
  watcher = new ResizeObserver(([e]) => (size.value = { w: e.contentRect.width, h: e.contentRect.height }))
  watcher.observe(box.value!)
})
onBeforeUnmount(() => watcher?.disconnect())

const LEFT = 44
const TOP = 36
const FOOT = 54
const BESIDE = 96
const strip = computed(() => told.value?.strip ?? null)
const wide = computed(() => Math.max(60, size.value.w - LEFT - BESIDE - 18))
const tall = computed(() => Math.max(60, size.value.h - TOP - FOOT))
const x = (turn: number) => LEFT + (turn / WIDE) * wide.value
const y = (height: number) =>
  TOP + (1 - (height - strip.value!.low) / (strip.value!.high - strip.value!.low)) * tall.value
const turnAt = (px: number) => ((px - LEFT) / wide.value) * WIDE
const heightAt = (py: number) =>
  strip.value!.low + (1 - (py - TOP) / tall.value) * (strip.value!.high - strip.value!.low)
/** Heights are counted from where the strip begins. */
const ticks = computed(() => {
  const s = strip.value!
  const long = s.high - s.low
  const step = [0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000].find((t) => long / t <= 8) ?? long / 5
  return Array.from({ length: Math.floor(long / step) + 1 }, (_, k) => k * step)
})

/** The relief as a picture, dark where it is deep. */
watch(
  [strip, canvas],
  () => {
    const [s, c] = [strip.value, canvas.value]
    if (!s || !c) return
    c.width = s.columns * WIDE
    c.height = s.rows
    const bytes = Uint8Array.from(atob(s.data), (q) => q.charCodeAt(0))
    const image = c.getContext('2d')!.createImageData(c.width, c.height)
    for (let row = 0; row < s.rows; row++)
      for (let col = 0; col < c.width; col++) {
        const v = bytes[row * s.columns + (col % s.columns)]
        const at = 4 * ((s.rows - 1 - row) * c.width + col)
        const t = (v - 1) / 254
        const rgb = v === 0 ? [238, 233, 224] : [110 + t * 122, 96 + t * 116, 66 + t * 106]
        image.data.set([...rgb, 255], at)
      }
    c.getContext('2d')!.putImageData(image, 0, 0)
  },
  { flush: 'post', immediate: true },
)

const pull = ref<Pull | null>(null)
const run = computed(() => pulled((told.value?.run ?? []) as Sample[], pull.value))
const path = (points: [number, number][]) =>
  points.map(([t, h], k) => `${k ? 'L' : 'M'}${x(t).toFixed(1)} ${y(h).toFixed(1)}`).join('')
const lines = computed(() =>
  strip.value ? onStrip(run.value, told.value!.starts).map(path) : ([] as string[]),
)
const ends = computed(() =>
  run.value.length
    ? ([
        ['begin', run.value[0]],
        ['end', run.value[run.value.length - 1]],
      ] as ['begin' | 'end', Sample][])
    : [],
)
const pins = computed(() =>
  r.value.pins.map((p) => {
    const s = run.value[Math.round(p.at * (run.value.length - 1))]
    return { at: p.at, turn: firstTurn(s?.[0] ?? 0), height: s?.[1] ?? 0 }
  }),
)
const bending = ref(false)
const bend = (on: boolean) => (e: KeyboardEvent) => {
  if (e.key.toLowerCase() === 'b' && !(e.target instanceof HTMLInputElement)) bending.value = on
}
const [down, up] = [bend(true), bend(false)]
onMounted(() => {
  window.addEventListener('keydown', down)
  window.addEventListener('keyup', up)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', down)
  window.removeEventListener('keyup', up)
})

let from = { height: 0, turn: 0 }
function place(e: PointerEvent) {
  const at = box.value!.getBoundingClientRect()
  return { turn: turnAt(e.clientX - at.left), height: heightAt(e.clientY - at.top) }
}
function grab(e: PointerEvent, at?: Pull['at']) {
  if (!told.value || hand.previewing) return
  from = place(e)
  if (at === undefined) {
    const hit = nearest(told.value.run as Sample[], told.value.starts, from.turn, from.height)
    if (Math.abs(hit.up) > 0.3 * told.value.pitch) return
    at = bending.value ? hit.share : 'line'
  }
  pull.value = { at, by: 0 }
  ;(e.currentTarget as Element).setPointerCapture(e.pointerId)
}
function move(e: PointerEvent) {
  if (!pull.value) return
  const now = place(e)
  const sign = told.value!.hand === 'right' ? 1 : -1
  // Across is along the line as well: a turn to the side is a lead down.
  const across = pull.value.at === 'line' ? sign * told.value!.lead * (now.turn - from.turn) : 0
  pull.value = { ...pull.value, by: now.height - from.height - across }
}
function release() {
  const done = pull.value
  if (!done) return
  if (Math.abs(done.by) < 1e-4 * told.value!.pitch) return void (pull.value = null)
  settle(r.value, told.value!, done)
  hand.tryIt(0)
}
/** The pull stays until what it made is known. */
watch(
  () => hand.previewing,
  (on) => {
    if (!on) pull.value = null
  },
)
/** Crest and root by height beside the strip. */
const least = computed(() => 0.9 * Math.min(...told.value!.root, ...told.value!.crest))
const most = computed(() => 1.04 * Math.max(...told.value!.crest, ...told.value!.root))
const rx = (radius: number) =>
  LEFT + wide.value + 26 + ((radius - least.value) / (most.value - least.value)) * (BESIDE - 34)
const evidence = (radii: (number | null)[]) => {
  const s = strip.value!
  let out = ''
  let open = false
  radii.forEach((v, k) => {
    if (v === null || v < least.value || v > most.value) return void (open = false)
    out += `${open ? 'L' : 'M'}${rx(v).toFixed(1)} ${y(s.heights[k]!).toFixed(1)}`
    open = true
  })
  return out
}
const chosen = computed(() => {
  const at = (radii: number[]) =>
    radii
      .map(
        (v, k) =>
          `${k ? 'L' : 'M'}${rx(v).toFixed(1)} ${y(run.value[k === 0 ? 0 : run.value.length - 1][1]).toFixed(1)}`,
      )
      .join('')
  return [at(told.value!.crest), at(told.value!.root)]
})
</script>

<template>
  <div
    ref="box"
    class="relative min-w-0 overflow-hidden border-l border-rule bg-white"
    role="group"
    aria-label="Unrolled strip"
  >
    <p v-if="!strip" class="p-6 text-soft">
      {{
        hand.previewing
          ? 'Laying the scan flat about its axis'
          : 'Click the ridge on the scan; the strip shows here.'
      }}
    </p>
    <template v-else>
      <canvas
        ref="canvas"
        class="absolute"
        :style="{ left: `${LEFT}px`, top: `${TOP}px`, width: `${wide}px`, height: `${tall}px` }"
      />
      <svg class="absolute inset-0 h-full w-full" @pointermove="move" @pointerup="release">
        <text :x="LEFT" y="22" class="fill-ink">unrolled strip, two turns wide; height in mm</text>
        <text :x="LEFT + wide + 26" y="22" class="fill-soft">radius</text>
        <g class="fig fill-soft text-[11px]">
          <text v-for="t in ticks" :key="t" :x="LEFT - 6" :y="y(strip.low + t) + 4" text-anchor="end">
            {{ mm(t, t % 1 ? 1 : 0) }}
          </text>
          <text
            v-for="t in [0, 0.5, 1, 1.5, 2]"
            :key="`t${t}`"
            :x="x(t)"
            :y="TOP + tall + 16"
            text-anchor="middle"
          >
            {{ t }}
          </text>
        </g>
        <line
          v-for="t in [0.5, 1, 1.5]"
          :key="`l${t}`"
          :x1="x(t)"
          :x2="x(t)"
          :y1="TOP"
          :y2="TOP + tall"
          stroke="var(--color-ink)"
          stroke-opacity="0.25"
          stroke-dasharray="1 5"
        />
        <rect
          :x="LEFT"
          :y="TOP"
          :width="wide"
          :height="tall"
          fill="transparent"
          :class="bending ? 'cursor-cell' : 'cursor-grab'"
          data-strip
          @pointerdown="grab"
        />
        <clipPath id="strip-within"><rect :x="LEFT" :y="TOP" :width="wide" :height="tall" /></clipPath>
        <g clip-path="url(#strip-within)" pointer-events="none">
          <path
            v-for="(d, k) in lines"
            :key="k"
            :d="d"
            fill="none"
            stroke="var(--color-inkblue)"
            stroke-width="2"
          />
        </g>
        <circle
          v-for="[name, s] in ends"
          :key="name"
          :cx="x(firstTurn(s[0]))"
          :cy="y(s[1])"
          r="6"
          fill="#FFF"
          stroke="var(--color-saffron)"
          stroke-width="2.5"
          class="cursor-ns-resize"
          :data-end="name"
          :aria-label="`The line's ${name}`"
          @pointerdown.stop="grab($event, name)"
        />
        <rect
          v-for="p in pins"
          :key="p.at"
          :x="x(p.turn) - 5"
          :y="y(p.height) - 5"
          width="10"
          height="10"
          :transform="`rotate(45 ${x(p.turn)} ${y(p.height)})`"
          fill="#FFF"
          stroke="var(--color-saffron)"
          stroke-width="2"
          class="cursor-ns-resize"
          @pointerdown.stop="grab($event, p.at)"
        />
        <path :d="evidence(strip.outer)" fill="none" stroke="var(--color-sand)" stroke-width="3" />
        <path :d="evidence(strip.inner)" fill="none" stroke="var(--color-sand)" stroke-width="3" />
        <path
          v-for="(d, k) in chosen"
          :key="`c${k}`"
          :d="d"
          fill="none"
          stroke="var(--color-inkblue)"
          stroke-width="1.5"
        />
        <text :x="LEFT" :y="size.h - 14" class="fill-soft">
          {{
            bending
              ? 'Drag where it shall bend.'
              : 'Drag a line to shift it, an end to tilt it; hold B to bend it.'
          }}
        </text>
      </svg>
    </template>
  </div>
</template>
