<script setup lang="ts">
/** The tide legend: the histogram itself, upright, with the tolerance handles on it. */
import { computed, ref } from 'vue'
import { css, tideColor } from './tide'

const props = defineProps<{ histogram: { counts: number[]; edges: number[] }; high: number; low: number }>()
const emit = defineEmits<{ band: [side: 1 | -1, value: number, both: boolean] }>()
const H = 150
const reach = computed(() => props.histogram.edges[props.histogram.edges.length - 1])
const y = (d: number) => 6 + (H / 2) * (1 - d / reach.value)
const bars = computed(() => {
  const top = Math.sqrt(Math.max(...props.histogram.counts, 1))
  return props.histogram.counts.map((c, i) => {
    const a = props.histogram.edges[i],
      b = props.histogram.edges[i + 1]
    return {
      y: y(b),
      h: y(a) - y(b),
      w: (Math.sqrt(c) / top) * 168,
      fill: css(tideColor((a + b) / 2, props.high, reach.value, props.low)),
      count: c,
    }
  })
})
const svg = ref<SVGSVGElement | null>(null)
const digits = computed(() => Math.max(2, Math.ceil(2 - Math.log10(Math.max(reach.value, 1e-9)))))
const step = computed(() => 10 ** (Math.floor(Math.log10(reach.value)) - 2))
/** Both handles go together; with Shift only the one that is pulled. */
function pull(side: 1 | -1, e: PointerEvent) {
  const el = e.currentTarget as Element
  el.setPointerCapture(e.pointerId)
  const move = (m: Event) => {
    const box = svg.value!.getBoundingClientRect()
    const at = (((m as PointerEvent).clientY - box.top) / box.height) * (H + 12)
    set(side, Math.abs((1 - (at - 6) / (H / 2)) * reach.value), !(m as PointerEvent).shiftKey)
  }
  el.addEventListener('pointermove', move)
  el.addEventListener('pointerup', () => el.removeEventListener('pointermove', move), { once: true })
}
const band = (side: 1 | -1) => (side > 0 ? props.high : props.low)
function set(side: 1 | -1, v: number, both: boolean) {
  const round = Math.round(v / step.value) * step.value
  emit(
    'band',
    side,
    Number(Math.min(Math.max(round, step.value), reach.value).toPrecision(6)),
    both && props.high === props.low,
  )
}
const ticks = computed(() => [1, 2, 3, 4, 5].map((k) => (k / 6) * reach.value))
const text = (v: number) => v.toFixed(digits.value)
</script>

<template>
  <svg
    ref="svg"
    :viewBox="`0 0 286 ${H + 12}`"
    class="w-full select-none"
    role="group"
    aria-label="Deviation legend"
  >
    <rect
      v-for="(b, i) in bars"
      :key="i"
      x="58"
      :y="b.y"
      :width="Math.max(b.w, 1)"
      :height="Math.max(b.h - 0.4, 0.5)"
      :fill="b.fill"
      stroke="var(--color-soft)"
      stroke-width=".4"
    >
      <title>{{ b.count }} points</title>
    </rect>
    <g stroke="var(--color-soft)">
      <line v-for="t in ticks" :key="t" x1="50" x2="56" :y1="y(t)" :y2="y(t)" />
    </g>
    <g fill="var(--color-soft)"><circle v-for="t in ticks" :key="t" cx="53" :cy="y(-t)" r="1.3" /></g>
    <text x="0" :y="14" class="fig" font-size="11.5">+{{ text(reach) }}</text>
    <text x="0" :y="y(0) + 4" class="fig" font-size="11.5">{{ text(0) }}</text>
    <text x="0" :y="H + 6" class="fig" font-size="11.5">−{{ text(reach) }}</text>
    <g
      v-for="side in [1, -1] as const"
      :key="side"
      class="cursor-ns-resize"
      role="slider"
      tabindex="0"
      :aria-label="side > 0 ? 'Upper tolerance' : 'Lower tolerance'"
      :aria-valuenow="side * band(side)"
      :aria-valuemin="-reach"
      :aria-valuemax="reach"
      @pointerdown="pull(side, $event)"
      @keydown.up.prevent="set(side, band(side) + side * 5 * step, !$event.shiftKey)"
      @keydown.down.prevent="set(side, band(side) - side * 5 * step, !$event.shiftKey)"
    >
      <rect x="40" :y="y(side * band(side)) - 8" width="246" height="16" fill="transparent" />
      <line
        x1="50"
        x2="286"
        :y1="y(side * band(side))"
        :y2="y(side * band(side))"
        stroke="var(--color-ink)"
      />
      <path :d="`M44 ${y(side * band(side)) - 6}l9 6l-9 6z`" fill="var(--color-ink)" />
      <text
        x="286"
        :y="y(side * band(side)) + (side > 0 ? -4 : 13)"
        text-anchor="end"
        class="fig"
        font-size="11.5"
      >
        {{ side > 0 ? '+' : '−' }}{{ text(band(side)) }}
      </text>
    </g>
  </svg>
  <p class="text-[11px] text-soft">
    Bars grow with the square root of the count. Ticks mark proud, dots short; with Shift one handle moves
    alone.
  </p>
</template>
