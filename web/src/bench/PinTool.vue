<script setup lang="ts">
/** Puts a tool on the belt or takes it off; shows its place there. */
import { computed } from 'vue'
import type { Tool } from '../kinds/kind'
import { useBelt } from '../state/belt'

const props = defineProps<{ tool: Tool }>()
const belt = useBelt()
const label = computed(() => {
  const at = belt.place(props.tool.id)
  return at ? `${at} on the belt, ${props.tool.name}` : `+ Pin ${props.tool.name} to the belt`
})
</script>

<template>
  <button
    class="w-6 rounded-sm text-soft hover:text-ink"
    :aria-pressed="belt.has(tool.id)"
    :aria-label="label"
    :title="belt.has(tool.id) ? 'Take off the belt' : 'Pin to the belt'"
    @click="belt.pin(tool.id)"
  >
    {{ belt.place(tool.id) || '+' }}
  </button>
</template>
