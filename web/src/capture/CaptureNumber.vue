<script setup lang="ts">
/** A number within a line of words: what stands before it, and its unit or what follows. */
const value = defineModel<number | null>({ required: true })
defineProps<{ before?: string; after?: string; says: string; min?: number; max?: number; step?: number }>()
</script>

<template>
  <label class="flex items-center gap-2"
    >{{ before }}
    <input
      v-model.number="value"
      type="number"
      :min="min"
      :max="max"
      :step="step"
      class="field w-20"
      :aria-label="says"
    />
    {{ after }}</label
  >
</template>
