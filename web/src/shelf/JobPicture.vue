<script setup lang="ts">
/** A job's picture, asked for again until it is drawn: on a busy machine it may not be at first. */
import { onBeforeUnmount, ref, watch } from 'vue'

const props = defineProps<{ src: string | null }>()
const MOST = 40
const asked = ref(0)
const drawn = ref(false)
let timer = 0

watch(
  () => props.src,
  () => {
    window.clearTimeout(timer)
    asked.value = 0
  },
)
function again() {
  drawn.value = false
  if (asked.value < MOST)
    timer = window.setTimeout(() => (asked.value += 1), 1000 + 500 * Math.min(asked.value, 8))
}
onBeforeUnmount(() => window.clearTimeout(timer))
</script>

<template>
  <div class="relative h-[216px] border-b border-rule bg-ground">
    <p v-if="src && !drawn" class="absolute inset-x-0 top-[98px] text-center text-soft">
      {{ asked < MOST ? 'Drawing its picture' : 'No picture could be drawn' }}
    </p>
    <img
      v-if="src"
      v-show="drawn"
      :key="asked"
      :src="asked ? `${src}&asked=${asked}` : src"
      alt=""
      class="h-full w-full object-cover"
      @load="drawn = true"
      @error="again"
    />
  </div>
</template>
