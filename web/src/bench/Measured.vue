<script setup lang="ts">
/** What is measured on the model: sizes of what was picked, and how two lie to each other. */
import { ref, watch } from 'vue'
import type { Schemas } from '../api/types'
import { short } from '../state/format'
import { useJob } from '../state/job'
import type { Under } from '../view3d/picking'

const props = defineProps<{ given: Under[] }>()
const j = useJob()
const figures = ref<Schemas['FigureView'][]>([])
const UNITS: { [unit: string]: string } = { deg: '°' }
let asked: AbortController | null = null
watch(
  () => props.given,
  async (given) => {
    asked?.abort()
    const of = given.flatMap((g) => (g.what === 'face' || g.what === 'edge' ? [g] : []))
    figures.value = []
    if (!of.length || of.length < given.length) return
    const mine = (asked = new AbortController())
    const faces = of.flatMap((g) => (g.what === 'face' ? [g.name] : []))
    const edges = of.flatMap((g) => (g.what === 'edge' ? [g.name] : []))
    try {
      const got = await j.ask<Schemas['Measured']>(
        '/measured',
        { body: of[0].body, faces, edges },
        mine.signal,
      )
      if (mine === asked) figures.value = got.figures
    } catch (e) {
      if ((e as Error).name !== 'AbortError') j.error = (e as Error).message
    }
  },
  { immediate: true },
)
const text = (f: Schemas['FigureView']) =>
  `${short(Number(f.value.toFixed(f.unit === 'mm²' ? 1 : 3)))} ${UNITS[f.unit] ?? f.unit}`
</script>

<template>
  <dl
    v-if="figures.length"
    class="mt-3 grid grid-cols-[116px_1fr] gap-y-1"
    role="group"
    aria-label="Measured on the model"
  >
    <template v-for="f in figures" :key="f.label">
      <dt>{{ f.label }}</dt>
      <dd class="fig font-semibold" :data-figure="f.label">{{ text(f) }}</dd>
    </template>
  </dl>
</template>
