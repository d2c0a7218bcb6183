<script setup lang="ts">
import { computed } from 'vue'
import { signed } from '../state/format'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const datums = computed(() => {
  const at = j.allStones.findIndex((s) => s.id === r.value.id)
  return (at < 0 ? j.allStones : j.allStones.slice(0, at)).filter((s) => s.produces === 'datum' && j.done(s))
})
const s = computed<any>(() => j.preview?.summary)
if (j.hand!.editing) j.tryIt(0)
const SLOTS: [string, string][] = [['first', 'holds its axis exactly'], ['second', 'stops the part turning'], ['origin', 'zero lies on it']]
function set(k: string, v: string | null) {
  r.value[k] = v || null
  j.tryIt(0)
}
function axis(k: string, v: string) {
  const other = k === 'first_axis' ? 'second_axis' : 'first_axis'
  if (r.value[other] === v) r.value[other] = r.value[k]
  r.value[k] = v
  j.tryIt(0)
}
const named = (what: string) => j.byId.get(r.value[what])?.name ?? what
</script>

<template>
  <Head title="Frame" says="The part's own axes, from datums in order of trust." />
  <section class="section">
    <h3>Give</h3>
    <div v-for="[k, says] in SLOTS" :key="k" class="slot mt-1.5" :class="{ 'slot-on': j.slot === k }">
      <label class="flex min-w-0 flex-1 items-center gap-2" :title="says"><span class="w-[46px] text-soft">{{ k }}</span>
        <select class="field min-w-0 flex-1 !border-0 !px-0 font-semibold" :value="r[k] ?? ''" @focus="j.slot = k" @change="set(k, ($event.target as HTMLSelectElement).value)">
          <option v-if="k !== 'first'" value="">none</option>
          <option v-for="d in datums" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
      </label>
      <template v-if="k !== 'origin'">
        <select class="field fig !px-1" :aria-label="`axis of the ${k} datum`" :value="r[k + '_axis']" @change="axis(k + '_axis', ($event.target as HTMLSelectElement).value)"><option v-for="a in ['x', 'y', 'z']" :key="a">{{ a }}</option></select>
        <button class="btn !px-1.5 !py-0.5" :class="{ 'btn-on': r['flip_' + k] }" :aria-pressed="r['flip_' + k]" :title="`Turn the ${k} axis round`" @click="set('flip_' + k, (!r['flip_' + k]) as any)">flip</button>
      </template>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <template v-if="s">
      <div v-for="m in s.misses" :key="m.what" class="flex justify-between gap-2 border-b border-dotted border-rule py-1.5"><span>{{ named(m.datum) }} {{ m.what }}</span><span class="fig whitespace-nowrap">{{ signed(m.degrees) }}°</span></div>
      <p class="mt-2 text-soft">{{ s.open_freedoms ? `${s.open_freedoms} of 6 freedoms still open` : 'All six freedoms are held.' }}</p>
    </template>
    <p v-else class="mt-1.5 text-soft">Choose a first datum.</p>
  </section>
</template>
