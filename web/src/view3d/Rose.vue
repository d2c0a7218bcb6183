<script setup lang="ts">
/**
 * The rose: six petals cut from one stone, one for each way to look along an axis; the one that faces the
 * viewer is lit.
 */
import * as THREE from 'three'
import { computed } from 'vue'
import type { Vec3 } from '../api/types'

const props = defineProps<{ quaternion: THREE.Quaternion }>()
const emit = defineEmits<{ look: [from: Vec3] }>()
const AXES: { name: string; v: Vec3 }[] = [
  { name: '+X', v: [1, 0, 0] },
  { name: '−X', v: [-1, 0, 0] },
  { name: '+Y', v: [0, 1, 0] },
  { name: '−Y', v: [0, -1, 0] },
  { name: '+Z', v: [0, 0, 1] },
  { name: '−Z', v: [0, 0, -1] },
]
const LONG = 34
const SHORT = 9
const WIDE = 11
const AWAY = -0.8 // a petal turned away more than this hides its name behind the one before it
const petals = computed(() => {
  const q = props.quaternion.clone().invert()
  const seen = AXES.map((a) => ({ ...a, to: new THREE.Vector3(...a.v).applyQuaternion(q) }))
  const facing = seen.reduce((a, b) => (a.to.z > b.to.z ? a : b)).name
  return seen
    .sort((a, b) => a.to.z - b.to.z)
    .map(({ name, v, to }) => {
      const flat = Math.hypot(to.x, to.y)
      const long = SHORT + (LONG - SHORT) * flat
      const w = WIDE * (0.55 + 0.45 * flat)
      const turn = flat > 1e-6 ? (Math.atan2(-to.y, to.x) * 180) / Math.PI : 0
      // From the heart out to a round tip.
      const shape =
        `M0 0C${0.25 * long} ${-0.35 * w} ${0.45 * long} ${-w} ${0.78 * long} ${-0.86 * w}` +
        `A${0.86 * w} ${0.86 * w} 0 0 1 ${0.78 * long} ${0.86 * w}C${0.45 * long} ${w} ${0.25 * long} ${0.35 * w} 0 0Z`
      const at = 0.8 * long * flat
      const lit = name === facing
      const shade = Math.round(100 * (0.5 + 0.5 * to.z))
      const fill = lit
        ? 'var(--color-lit)'
        : `color-mix(in srgb, var(--color-sheet) ${shade}%, var(--color-shade))`
      const named = to.z > AWAY
      return {
        name,
        v,
        shape,
        turn,
        fill,
        lit,
        named,
        x: at * Math.cos(rad(turn)),
        y: at * Math.sin(rad(turn)),
      }
    })
})
const rad = (d: number) => (d * Math.PI) / 180
</script>

<template>
  <svg
    class="absolute bottom-3 left-3 h-[88px] w-[88px]"
    viewBox="-44 -44 88 88"
    role="group"
    aria-label="Look along an axis"
  >
    <g
      v-for="p in petals"
      :key="p.name"
      role="button"
      tabindex="0"
      class="rose-petal cursor-pointer"
      :aria-label="`Look from ${p.name}`"
      @click="emit('look', p.v)"
      @keydown.enter.stop="emit('look', p.v)"
    >
      <title>Look from {{ p.name }}</title>
      <path
        :d="p.shape"
        :transform="`rotate(${p.turn})`"
        :fill="p.fill"
        stroke="var(--color-soft)"
        stroke-width="0.9"
      />
      <text
        v-if="p.named"
        :x="p.x"
        :y="p.y + 3.4"
        text-anchor="middle"
        font-size="9.5"
        :font-weight="p.lit ? 700 : 500"
        fill="var(--color-ink)"
        aria-hidden="true"
      >
        {{ p.name }}
      </text>
    </g>
  </svg>
</template>
