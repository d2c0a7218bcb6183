<script setup lang="ts">
/** The background dropped: a slab found, an island kept, or what an outline holds. */
import { computed, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { whole } from '../../state/format'
import { isCloud } from '../../state/job'
import { useStep } from '../useStep'

type Record = Schemas['BackgroundStep']
const { hand, marks: m, r, told: s } = useStep<Record, Schemas['BackgroundTold']>()
const WAYS = [
  ['slab', 'Slab', 'The plane under the part is found; it and what lies below goes'],
  ['island', 'Island', 'Keep what is connected to a place you click'],
  ['outline', 'Outline', 'Draw around what goes, from one side'],
] as const
const DROPS = [
  ['marked', 'what is marked'],
  ['unmarked', 'all else'],
] as const
function way(w: Record['way']) {
  Object.assign(r.value, {
    way: w,
    marks: [],
    scraps: w !== 'outline', // what is drawn by hand is meant as drawn
    drop: w === 'island' ? 'unmarked' : 'marked',
  })
  hand.preview = null
  hand.lit = null
  m.forget()
  if (w === 'slab') {
    hand.slot = null
    hand.tryIt(0)
  } else {
    m.by = w === 'island' ? 'whole island' : 'outline'
    m.how = 'add'
    hand.slot = 'marks'
  }
}
if (r.value.way !== 'slab') {
  hand.slot = 'marks'
  hand.select()
}
hand.tryIt(0)
watch(
  () => [r.value.drop, r.value.scraps],
  () => (r.value.way === 'slab' || r.value.marks.length) && hand.tryIt(0),
)
const what = computed(() => s.value?.what ?? (isCloud(hand.scan) ? 'points' : 'triangles'))
</script>

<template>
  <Head
    title="Background"
    says="Drop what is not the part. What would go is shown in brick before it goes."
  />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button
        v-for="[w, name, says] in WAYS"
        :key="w"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.way === w }"
        :aria-pressed="r.way === w"
        :title="says"
        @click="way(w)"
      >
        {{ name }}
      </button>
    </div>
    <p class="mt-1.5 text-soft">{{ WAYS.find((w) => w[0] === r.way)![2] }}.</p>
    <div v-if="r.way !== 'slab'" class="mt-1.5 flex items-center gap-1.5">
      goes
      <button
        v-for="[d, name] in DROPS"
        :key="d"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.drop === d }"
        :aria-pressed="r.drop === d"
        @click="r.drop = d"
      >
        {{ name }}
      </button>
    </div>
    <label class="mt-2 flex items-center gap-2"
      ><input v-model="r.scraps" type="checkbox" class="accent-ink" /> loose scraps go too</label
    >
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="m.marked && r.way !== 'slab'" class="mt-1.5">
      <span class="fig" data-figure="marked">{{ whole(m.marked.count) }}</span> {{ what }} marked<template
        v-if="m.marked.area"
        >, <span class="fig">{{ m.marked.area.toFixed(1) }} mm²</span></template
      >
    </p>
    <p v-if="!s && !hand.previewing" class="mt-1.5 text-soft">
      {{ r.way === 'slab' ? 'What would go shows here.' : 'Mark in the view to see what would go.' }}
    </p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>goes</dt>
      <dd class="fig" data-figure="goes">{{ whole(s.goes) }} {{ what }}</dd>
      <dt>of it scraps</dt>
      <dd class="fig">{{ whole(s.scrap_goes) }}</dd>
      <dt>stays</dt>
      <dd class="fig" data-figure="stays">{{ whole(s.triangles || s.points) }}</dd>
      <template v-if="s.plane"
        ><dt>slab's scatter</dt>
        <dd class="fig">{{ s.scatter?.toFixed(3) }} mm</dd></template
      >
      <dt>size left</dt>
      <dd class="fig">{{ s.size }}</dd>
    </dl>
  </section>
</template>
