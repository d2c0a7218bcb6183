<script setup lang="ts">
/** Open rims by length: hover lights one, a click picks it; patches flat, tangent or following curvature. */
import { computed, ref, watch } from 'vue'
import type { RimView } from '../api/client'
import { mm } from '../state/format'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const rims = ref<RimView[] | null>(null)
const over = ref(-1)
const same = (a: number[], b: number[]) => Math.hypot(...a.map((v, k) => v - b[k])) < 1e-3
const picked = computed(() => {
  const n = rims.value?.length ?? 0
  const all = (rims.value ?? []).map((_, i) => i)
  if (r.value.which === 'all') return new Set(all)
  if (r.value.which === 'shortest') return new Set(all.slice(0, r.value.count))
  if (r.value.which === 'all but the longest') return new Set(all.slice(0, n - 1))
  return new Set(all.filter((i) => (r.value.places as number[][]).some((p) => same(p, rims.value![i].place))))
})
async function load() {
  try {
    rims.value = await j.ask<RimView[]>('/rims', { scan: r.value.scan })
    if (!rims.value.length) j.handError = ''
    else j.tryIt(0)
  } catch (e) {
    j.handError = (e as Error).message
  }
}
load()
j.slot = 'rims'
function light() {
  j.lines = (rims.value ?? []).map((x, i) => ({ points: x.points, closed: true, colour: i === over.value ? 'brick' : picked.value.has(i) ? 'saffron' : 'ink' }))
}
watch([rims, picked, over], light)
watch(() => j.rimOver, (i) => (over.value = i))
watch(() => j.rimClicked, (c) => { if (c) pick(c.at) })
function pick(i: number) {
  const places = [...picked.value].filter((k) => k !== i).map((k) => rims.value![k].place)
  if (!picked.value.has(i)) places.push(rims.value![i].place)
  Object.assign(r.value, { which: 'picked', places })
  changed()
}
function which(w: string) {
  r.value.which = w
  if (w === 'picked') r.value.places = []
  changed()
}
function changed() {
  j.preview = null
  j.stopTrying()
  if (picked.value.size) j.tryIt(350)
}
function look(x: RimView) {
  const mid = x.points.reduce((a, p) => a.map((v, k) => v + p[k] / x.points.length), [0, 0, 0])
  j.focus = { place: mid, size: Math.max(x.size * 1.3, 1) }
}
const WHICH = [['all', 'all'], ['all but the longest', 'all but the longest'], ['shortest', 'the shortest'], ['picked', 'picked']]
const SHAPES = [['flat', 'A soap film over the rim'], ['tangent', 'Leaves the rim in the direction of the surface'], ['curved', 'Follows the curvature, or the plane, cylinder, sphere or cone around']]
</script>

<template>
  <Head title="Close holes" says="Each patch is as dense as the mesh around it. Rims are lit in the view; click one to pick it." />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex flex-wrap items-center gap-1.5">
      <button v-for="[w, name] in WHICH" :key="w" class="btn !px-2 !py-1" :class="{ 'btn-on': r.which === w }" :aria-pressed="r.which === w" @click="which(w)">{{ name }}</button>
      <label v-if="r.which === 'shortest'" class="flex items-center gap-1.5"><input v-model.number="r.count" type="number" min="1" :max="rims?.length ?? 1" class="field fig w-16 !py-0.5" aria-label="How many of the shortest" @change="changed" /> of {{ rims?.length }}</label>
    </div>
    <ul v-if="rims?.length" class="mt-2 max-h-[168px] overflow-y-auto rounded-sm border border-rule bg-white" aria-label="Open rims">
      <li v-for="(x, i) in rims" :key="i" class="flex items-center gap-2 px-1.5 py-[3px]" :class="{ 'bg-held': over === i }" @mouseenter="over = i" @mouseleave="over = -1">
        <input type="checkbox" :checked="picked.has(i)" class="accent-[#23262A]" :aria-label="`Rim of ${mm(x.length, 1)} mm`" @change="pick(i)" />
        <button class="fig flex flex-1 justify-between text-left" title="Look at it" @click="look(x)"><span>{{ mm(x.length, 1) }} mm</span><span class="text-soft">{{ x.edges }} edges, {{ mm(x.size, 1) }} across</span></button>
      </li>
    </ul>
    <p v-else-if="rims" class="mt-2 text-moss">There is no open rim: nothing to close.</p>
    <div class="mt-2 flex gap-1.5"><button v-for="[v, says] in SHAPES" :key="v" class="btn flex-1 !px-1" :class="{ 'btn-on': r.shape === v }" :aria-pressed="r.shape === v" :title="says" @click="r.shape = v; changed()">{{ v }}</button></div>
    <label class="mt-2 flex items-center gap-2">rework the rim <input v-model.number="r.rework" type="number" min="0" step="0.2" class="field fig w-16 !py-0.5" aria-label="Rework the rim, mm" @change="changed" /> mm <span class="text-soft">{{ r.rework > 0 ? '' : 'scan untouched' }}</span></label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !j.previewing" class="mt-1.5 text-soft">{{ picked.size ? 'The patches show in saffron once worked out.' : 'Pick a rim to close.' }}</p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>closed</dt><dd class="fig" data-figure="closed">{{ s.closed }}</dd>
      <dt>new triangles</dt><dd class="fig">{{ s.added.toLocaleString('en') }}</dd>
      <dt>left open</dt><dd class="fig" data-figure="left">{{ s.left }}</dd>
      <template v-if="Object.keys(s.elements).length"><dt>laid onto</dt><dd>{{ Object.entries(s.elements).map(([k, n]) => `${n} ${k}${n === 1 ? '' : 's'}`).join(', ') }}</dd></template>
    </dl>
  </section>
</template>
