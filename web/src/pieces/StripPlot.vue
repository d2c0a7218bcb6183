<script setup lang="ts">
/** Every piece's value on one strip: what measuring explains as a band, the chosen number as a cord. */
import { computed } from 'vue'
import type { PieceLine, SizeLine } from './pieces'

const props = defineProps<{ size: SizeLine; pieces: PieceLine[]; on: number | null }>()
const W = 108
const H = 20
const PAD = 6
const middle = computed(() => props.size.nominal ?? props.size.mean)
const span = computed(() => {
  const values = [props.size.low, props.size.high]
  const band = 2 * props.size.expected
  const low = Math.min(...values, middle.value - band)
  const high = Math.max(...values, middle.value + band)
  return { low, wide: Math.max(high - low, 1e-12) }
})
const x = (v: number) => PAD + ((v - span.value.low) / span.value.wide) * (W - 2 * PAD)
const within = (v: number) => x(v) >= 0 && x(v) <= W
const dots = computed(() =>
  props.pieces
    .filter((p) => props.size.name in p.values)
    .map((p) => ({ id: p.id, at: x(p.values[props.size.name]), apart: props.size.apart.includes(p.id) })),
)
</script>

<template>
  <svg :width="W" :height="H" role="img" :aria-label="`${size.name}: from ${size.low} to ${size.high}`">
    <rect
      :x="x(middle - 2 * size.expected)"
      y="3"
      :width="Math.max(1, x(middle + 2 * size.expected) - x(middle - 2 * size.expected))"
      :height="H - 6"
      class="fill-wall"
    />
    <line
      v-if="within(size.chosen)"
      :x1="x(size.chosen)"
      :x2="x(size.chosen)"
      y1="0"
      :y2="H"
      class="stroke-ink"
    />
    <circle
      v-for="d in dots"
      :key="d.id"
      :cx="d.at"
      :cy="H / 2"
      :r="d.id === on ? 4 : 2.7"
      :class="[
        d.apart || size.agreement === 'differs' ? 'fill-rust' : 'fill-slate',
        d.id === on ? 'stroke-ink' : 'stroke-sheet',
      ]"
    />
  </svg>
</template>
