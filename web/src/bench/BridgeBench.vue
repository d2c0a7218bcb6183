<script setup lang="ts">
/** Part of a rim closed between marks, or a strip across a gap. */
import { computed, ref, watch } from 'vue'
import type { RimView } from '../api/client'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const rims = ref<RimView[]>([])
const need = computed(() => (r.value.way === 'stretch' ? 3 : 2))
const SLOTS = computed(() => (r.value.way === 'stretch' ? ['one end', 'other end', 'a place between'] : ['one end', 'other end']))
j.ask<RimView[]>('/rims', { scan: r.value.scan }).then((x) => (rims.value = x), (e) => (j.handError = e.message))
j.slot = 'bridge'
function light() {
  const half = 0.012 * Math.hypot(...((j.handScan?.summary as any)?.bounds ?? [[0, 0, 0], [60, 60, 60]])[1].map((v: number, k: number) => v - (j.handScan?.summary as any).bounds[0][k]))
  j.lines = [
    ...rims.value.map((x) => ({ points: x.points, closed: true, colour: 'ink' })),
    ...(r.value.places as number[][]).flatMap((p) => [0, 1, 2].map((k) => ({ points: [p.map((v, i) => (i === k ? v - half : v)), p.map((v, i) => (i === k ? v + half : v))], closed: false, colour: 'saffron' }))),
  ]
}
watch([rims, () => JSON.stringify(r.value.places)], light)
function way(w: string) {
  Object.assign(r.value, { way: w, places: [] })
  j.preview = null
}
if (j.hand!.editing) j.tryIt(0)
</script>

<template>
  <Head title="Bridge a gap" says="Make a hole smaller or part it in two before closing what is left." />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button class="btn flex-1" :class="{ 'btn-on': r.way === 'stretch' }" :aria-pressed="r.way === 'stretch'" @click="way('stretch')">Stretch of a rim</button>
      <button class="btn flex-1" :class="{ 'btn-on': r.way === 'strip' }" :aria-pressed="r.way === 'strip'" @click="way('strip')">Strip</button>
    </div>
    <ol class="mt-1.5 space-y-1">
      <li v-for="(name, i) in SLOTS" :key="name" class="slot" :class="{ 'slot-on': r.places.length % need === i && r.places.length < need }"><span class="w-[96px] text-soft">{{ name }}</span><span :class="r.places[i] ? 'font-semibold' : 'text-soft'">{{ r.places[i] ? 'marked' : 'click it on the rim' }}</span></li>
    </ol>
    <label v-if="r.way === 'strip'" class="mt-2 flex items-center gap-2">width <input v-model.number="r.width" type="number" min="0.1" step="0.5" class="field fig w-20 !py-0.5" @change="r.places.length === need && j.tryIt()" /> mm</label>
    <div class="mt-2 flex gap-1.5"><button v-for="v in ['flat', 'tangent', 'curved']" :key="v" class="btn flex-1 !px-1" :class="{ 'btn-on': r.shape === v }" :aria-pressed="r.shape === v" @click="r.shape = v; r.places.length === need && j.tryIt(0)">{{ v }}</button></div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !j.previewing" class="mt-1.5 text-soft">Set {{ need }} marks on the rims lit in the view.</p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1"><dt>new triangles</dt><dd class="fig">{{ s.added.toLocaleString('en') }}</dd><dt>rims left</dt><dd class="fig" data-figure="left">{{ s.left }}</dd></dl>
  </section>
</template>
