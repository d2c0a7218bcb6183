<script setup lang="ts">
/** Work under way: a sentence, how far it is, and a way to stop it. */
defineProps<{ at: { progress: number; message: string } }>()
defineEmits<{ stop: [] }>()
</script>

<template>
  <div class="mt-2" role="status">
    <div class="h-1.5 bg-rule">
      <div class="h-full bg-saffron" :style="{ width: `${Math.round(at.progress * 100)}%` }" />
    </div>
    <p class="mt-1 flex items-center justify-between text-soft">
      <span>{{ at.message }}</span><button class="underline" @click="$emit('stop')">Stop</button>
    </p>
  </div>
</template>
