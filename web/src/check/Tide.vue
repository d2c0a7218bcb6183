<script setup lang="ts">
/** The tide legend: the histogram itself, upright, with the tolerance handles on it. */
import { computed, ref } from 'vue'
import { css, tideColor } from './tide'

const props = defineProps<{ histogram: { counts: number[]; edges: number[] }; tolerance: number }>()
const emit = defineEmits<{ tolerance: [value: number] }>()
const H = 210
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
      fill: css(tideColor((a + b) / 2, props.tolerance, reach.value)),
      count: c,
    }
  })
})
const svg = ref<SVGSVGElement | null>(null)
function pull(e: PointerEvent) {
  const el = e.currentTarget as Element
  el.setPointerCapture(e.pointerId)
  const move = (m: Event) => {
    const box = svg.value!.getBoundingClientRect()
    const at = (((m as PointerEvent).clientY - box.top) / box.height) * (H + 12)
    set(Math.abs((1 - (at - 6) / (H / 2)) * reach.value))
  }
  el.addEventListener('pointermove', move)
  el.addEventListener('pointerup', () => el.removeEventListener('pointermove', move), { once: true })
}
const set = (v: number) =>
  emit('tolerance', Math.min(Math.max(Math.round(v * 1000) / 1000, 0.001), reach.value))
const ticks = computed(() => [1, 2, 3, 4, 5].map((k) => (k / 6) * reach.value))
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
      stroke="#8a8578"
      stroke-width=".4"
    >
      <title>{{ b.count }} points</title>
    </rect>
    <g stroke="#6A655C"><line v-for="t in ticks" :key="t" x1="50" x2="56" :y1="y(t)" :y2="y(t)" /></g>
    <g fill="#6A655C"><circle v-for="t in ticks" :key="t" cx="53" :cy="y(-t)" r="1.3" /></g>
    <text x="0" :y="14" class="fig" font-size="11.5">+{{ reach.toFixed(3) }}</text>
    <text x="0" :y="y(0) + 4" class="fig" font-size="11.5">0.000</text>
    <text x="0" :y="H + 6" class="fig" font-size="11.5">−{{ reach.toFixed(3) }}</text>
    <g
      v-for="side in [1, -1]"
      :key="side"
      class="cursor-ns-resize"
      role="slider"
      tabindex="0"
      :aria-label="side > 0 ? 'Upper tolerance' : 'Lower tolerance'"
      :aria-valuenow="side * tolerance"
      :aria-valuemin="-reach"
      :aria-valuemax="reach"
      @pointerdown="pull"
      @keydown.up.prevent="set(tolerance + side * 0.005)"
      @keydown.down.prevent="set(tolerance - side * 0.005)"
    >
      <rect x="40" :y="y(side * tolerance) - 8" width="246" height="16" fill="transparent" />
      <line x1="50" x2="286" :y1="y(side * tolerance)" :y2="y(side * tolerance)" stroke="#23262A" />
      <path :d="`M44 ${y(side * tolerance) - 6}l9 6l-9 6z`" fill="#23262A" />
      <text
        x="286"
        :y="y(side * tolerance) + (side > 0 ? -4 : 13)"
        text-anchor="end"
        class="fig"
        font-size="11.5"
      >
        {{ side > 0 ? '+' : '−' }}{{ tolerance.toFixed(3) }}
      </text>
    </g>
  </svg>
  <p class="text-[11px] text-soft">
    Bars grow with the square root of the count. Ticks mark proud, dots short.
  </p>
</template>
