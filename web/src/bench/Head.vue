<script setup lang="ts">
import { useJob } from '../state/job'

defineProps<{ title: string; says: string }>()
const j = useJob()
</script>

<template>
  <header class="px-3.5 pb-3 pt-3">
    <h2>{{ title }}</h2>
    <p class="text-soft">{{ says }}</p>
    <label class="mt-2 flex items-center gap-2 text-soft">name <input v-model="j.hand!.record.name" class="field flex-1 text-ink" maxlength="80" /></label>
  </header>
</template>
