<script setup lang="ts">
/** The background dropped: a slab found, an island kept, or what an outline holds. */
import { computed, watch } from 'vue'
import { useJob } from '../state/job'
import { useMarks } from '../state/marks'
import Head from './Head.vue'

const j = useJob()
const m = useMarks()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const WAYS = [['slab', 'Slab', 'The plane under the part is found; it and what lies below goes'], ['island', 'Island', 'Keep what is connected to a place you click'], ['outline', 'Outline', 'Draw around what goes, from one side']] as const
function way(w: string) {
  r.value.way = w
  r.value.marks = []
  r.value.scraps = w !== 'outline' // what is drawn by hand is meant as drawn
  r.value.drop = w === 'island' ? 'unmarked' : 'marked'
  j.preview = null
  j.lit = null
  j.marked = null
  if (w === 'slab') { j.slot = null; j.tryIt(0) } else {
    m.by = w === 'island' ? 'whole island' : 'outline'
    m.how = 'add'
    j.slot = 'marks'
  }
}
if (r.value.way === 'slab') j.tryIt(0)
else { j.slot = 'marks'; j.select(); j.tryIt(0) }
watch(() => [r.value.drop, r.value.scraps], () => { if (r.value.way === 'slab' || r.value.marks.length) j.tryIt(0) })
const what = computed(() => s.value?.what ?? ((j.handScan?.summary as any)?.is === 'cloud' ? 'points' : 'triangles'))
</script>

<template>
  <Head title="Background" says="Drop what is not the part. What would go is shown in brick before it goes." />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button v-for="[w, name, says] in WAYS" :key="w" class="btn flex-1 !px-1" :class="{ 'btn-on': r.way === w }" :aria-pressed="r.way === w" :title="says" @click="way(w)">{{ name }}</button>
    </div>
    <p class="mt-1.5 text-soft">{{ WAYS.find((w) => w[0] === r.way)![2] }}.</p>
    <div v-if="r.way !== 'slab'" class="mt-1.5 flex items-center gap-1.5">goes
      <button class="btn flex-1 !px-1" :class="{ 'btn-on': r.drop === 'marked' }" :aria-pressed="r.drop === 'marked'" @click="r.drop = 'marked'">what is marked</button>
      <button class="btn flex-1 !px-1" :class="{ 'btn-on': r.drop === 'unmarked' }" :aria-pressed="r.drop === 'unmarked'" @click="r.drop = 'unmarked'">all else</button>
    </div>
    <label class="mt-2 flex items-center gap-2"><input v-model="r.scraps" type="checkbox" class="accent-[#23262A]" /> loose scraps go too</label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="j.marked && r.way !== 'slab'" class="mt-1.5"><span class="fig" data-figure="marked">{{ j.marked.count.toLocaleString('en') }}</span> {{ what }} marked<template v-if="j.marked.area">, <span class="fig">{{ j.marked.area.toFixed(1) }} mm²</span></template></p>
    <p v-if="!s && !j.previewing" class="mt-1.5 text-soft">{{ r.way === 'slab' ? 'What would go shows here.' : 'Mark in the view to see what would go.' }}</p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>goes</dt><dd class="fig" data-figure="goes">{{ s.goes.toLocaleString('en') }} {{ what }}</dd>
      <dt>of it scraps</dt><dd class="fig">{{ s.scrap_goes.toLocaleString('en') }}</dd>
      <dt>stays</dt><dd class="fig" data-figure="stays">{{ (s.triangles || s.points).toLocaleString('en') }}</dd>
      <template v-if="s.plane"><dt>slab's scatter</dt><dd class="fig">{{ s.scatter.toFixed(3) }} mm</dd></template>
      <dt>size left</dt><dd class="fig">{{ s.size }}</dd>
    </dl>
  </section>
</template>
