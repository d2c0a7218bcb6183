<script setup lang="ts">
import { useHand } from '../state/hand'

defineProps<{ title: string; says: string }>()
const hand = useHand()
</script>

<template>
  <header class="px-3.5 pb-3 pt-3">
    <h2>{{ title }}</h2>
    <p class="text-soft">{{ says }}</p>
    <label class="mt-2 flex items-center gap-2 text-soft"
      >name <input v-model="hand.record!.name" class="field flex-1 text-ink" maxlength="80"
    /></label>
  </header>
</template>
