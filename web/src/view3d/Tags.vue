<script setup lang="ts">
/** Words at places of the view; they follow it as it turns. */
import { computed } from 'vue'
import type { TagPlan } from './plan'
import type { Viewer } from './viewer'

/** `drawn` counts the view's pictures. */
const props = defineProps<{ viewer: Viewer; tags: TagPlan[]; drawn: number }>()
const placed = computed(() =>
  props.drawn < 0 ? [] : props.tags.map((t) => ({ ...t, ...props.viewer.project(t.place) })),
)
</script>

<template>
  <div class="pointer-events-none absolute inset-0 overflow-hidden" aria-hidden="true">
    <svg v-if="placed.length" class="absolute inset-0 h-full w-full">
      <g v-for="t in placed" :key="t.id">
        <line :x1="t.x" :y1="t.y" :x2="t.x + 16" :y2="t.y - 20" stroke="var(--color-ink)" />
        <circle
          :cx="t.x"
          :cy="t.y"
          r="3"
          :fill="t.tone === 'pin' ? 'var(--color-saffron)' : 'var(--color-ink)'"
          stroke="var(--color-ink)"
        />
      </g>
    </svg>
    <p
      v-for="t in placed"
      :key="t.id"
      class="view-tag fig"
      :class="{ 'view-tag-pin': t.tone === 'pin' }"
      :style="{ left: `${t.x + 16}px`, top: `${t.y - 32}px` }"
      data-tag
    >
      {{ t.text }}
    </p>
  </div>
</template>
