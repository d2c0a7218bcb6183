<script setup lang="ts">
/** How the residuals of a fit lie: a small histogram, grey inside, rust at the tails. */
import { computed } from 'vue'

const props = defineProps<{ histogram: { counts: number[]; reach: number }; scatter: number }>()
const bars = computed(() => {
  const c = props.histogram.counts,
    top = Math.max(...c, 1),
    n = c.length
  return c.map((v, i) => ({
    x: (i / n) * 280,
    h: (v / top) * 46,
    far: Math.abs(((i + 0.5) / n) * 2 - 1) * props.histogram.reach > 2.5 * props.scatter,
  }))
})
</script>

<template>
  <svg viewBox="0 0 286 62" class="mt-2 w-full" role="img" aria-label="Residuals">
    <rect
      v-for="(b, i) in bars"
      :key="i"
      :x="b.x"
      :y="48 - b.h"
      width="7.6"
      :height="b.h"
      :fill="b.far ? 'var(--color-rust)' : '#9D9484'"
    />
    <line x1="0" x2="286" y1="48.5" y2="48.5" stroke="var(--color-ink)" />
    <text x="0" y="60" font-size="10" font-family="IBM Plex Mono" fill="var(--color-soft)">
      −{{ histogram.reach.toFixed(3) }}
    </text>
    <text
      x="140"
      y="60"
      font-size="10"
      font-family="IBM Plex Mono"
      fill="var(--color-soft)"
      text-anchor="middle"
    >
      0
    </text>
    <text
      x="284"
      y="60"
      font-size="10"
      font-family="IBM Plex Mono"
      fill="var(--color-soft)"
      text-anchor="end"
    >
      +{{ histogram.reach.toFixed(3) }}
    </text>
  </svg>
</template>
