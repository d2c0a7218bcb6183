<script setup lang="ts">
/** The rose: six ways to look along an axis, turning with the view. */
import * as THREE from 'three'
import { computed } from 'vue'

const props = defineProps<{ quaternion: THREE.Quaternion }>()
const emit = defineEmits<{ look: [from: [number, number, number]] }>()
const AXES: { name: string; v: [number, number, number] }[] = [
  { name: '+X', v: [1, 0, 0] }, { name: '−X', v: [-1, 0, 0] }, { name: '+Y', v: [0, 1, 0] },
  { name: '−Y', v: [0, -1, 0] }, { name: '+Z', v: [0, 0, 1] }, { name: '−Z', v: [0, 0, -1] },
]
const petals = computed(() => {
  const q = props.quaternion.clone().invert()
  return AXES.map((a) => {
    const p = new THREE.Vector3(...a.v).applyQuaternion(q)
    return { ...a, x: 36 + 25 * p.x, y: 36 - 25 * p.y, z: p.z }
  }).sort((a, b) => a.z - b.z)
})
</script>

<template>
  <div class="absolute bottom-4 left-4 h-[72px] w-[72px] rounded-full border border-rule bg-sheet" role="group" aria-label="Look along an axis">
    <svg class="absolute inset-0" viewBox="0 0 72 72" aria-hidden="true">
      <line v-for="p in petals" :key="p.name" x1="36" y1="36" :x2="p.x" :y2="p.y" :stroke="p.name[0] === '+' ? '#23262A' : '#D5CCBC'" />
    </svg>
    <button
      v-for="p in petals" :key="p.name" class="absolute h-[19px] w-[19px] rounded-full border text-[9px] font-semibold leading-none"
      :class="p.name[0] === '+' ? 'border-ink bg-ink text-sheet' : 'border-ink bg-sheet text-ink'"
      :style="{ left: `${p.x - 9.5}px`, top: `${p.y - 9.5}px`, opacity: 0.72 + 0.28 * p.z }"
      :aria-label="`Look from ${p.name}`" :title="`Look from ${p.name}`" @click="emit('look', p.v)"
    >{{ p.name }}</button>
  </div>
</template>
