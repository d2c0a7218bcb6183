<script setup lang="ts">
import { computed, watch } from 'vue'
import { useJob } from '../state/job'
import Chip from './Chip.vue'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
j.slot = 'edges'
const alike = computed({ get: () => r.value.alike !== false, set: (v: boolean) => (r.value.alike = v ? undefined : false) })
watch(() => JSON.stringify(r.value.edges), () => (r.value.edges.length ? j.tryIt(0) : (j.preview = null)), { immediate: true })
const pairs = computed(() => {
  const family = (f: string) => f.replace(/\/side\/.*/, ' wall').replace('/', ' ')
  const out: Record<string, number> = {}
  for (const e of r.value.edges) {
    const k = [family(e[0]), family(e[1])].sort().join(' to ')
    out[k] = (out[k] ?? 0) + 1
  }
  return out
})
function choose(value: number, source: string) {
  r.value.radius = { value, source }
  j.tryIt(0)
}
</script>

<template>
  <Head title="Fillet" says="Click near an edge; its radius is read from the scan." />
  <section class="section">
    <h3>Give</h3>
    <button class="slot mt-1.5" :class="{ 'slot-on': j.slot === 'edges' }" @click="j.slot = 'edges'"><span class="w-[60px] text-soft">edges</span><span :class="r.edges.length ? 'font-semibold' : 'text-soft'">{{ r.edges.length ? `${r.edges.length} picked` : 'click them on the model' }}</span></button>
    <p v-for="(n, k) in pairs" :key="k" class="pl-2 text-soft">{{ n }} of {{ k }}</p>
    <label class="mt-1.5 flex items-center gap-2"><input v-model="alike" type="checkbox" class="accent-[#1E3C66]" /> with all between the same two features</label>
    <button v-if="r.edges.length" class="mt-1 underline" @click="r.edges = []">clear</button>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!j.preview?.values.length" class="mt-1.5 text-soft">{{ j.previewing ? 'Reading the scan' : 'The radius shows here once an edge is picked.' }}</p>
    <Chip v-for="v in j.preview?.values ?? []" :key="v.name" v-bind="v" @choose="choose" />
    <p v-if="s?.readings?.radius" class="text-[11.5px] text-soft">{{ s.readings.radius.count.toLocaleString('en') }} points on the rounding, scatter {{ s.readings.radius.scatter.toFixed(3) }} mm</p>
    <div v-if="j.handError && r.edges.length" class="mt-2 flex gap-1.5"><button v-for="v in [1, 2, 3]" :key="v" class="btn flex-1" @click="choose(v, 'typed')">R {{ v }}</button></div>
  </section>
</template>
