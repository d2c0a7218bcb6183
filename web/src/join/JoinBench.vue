<script setup lang="ts">
/** Matching, settling or merging in hand: what is given, and what the scans say of it. */
import { computed } from 'vue'
import Head from '../bench/Head.vue'
import { useJob } from '../state/job'
import LeftOut from './LeftOut.vue'
import LinkTable from './LinkTable.vue'
import { useNames } from './names'
import PairList from './PairList.vue'
import ShownAs from './ShownAs.vue'

const j = useJob()
const { nameOf, numberOf, css } = useNames()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const HEADS: Record<string, [string, string]> = {
  match: ['Rough match', 'Where each scan belongs, to a fraction of a millimetre.'],
  settle: ['Settle', 'All scans at once, so that error does not pile up around a ring.'],
  merge: ['Merge', 'Doubled layers go; what nothing saw stays open.'],
}
const head = computed(() => (r.value.kind === 'match' && r.value.by === 'pairs' ? ['Match by pairs', 'The same places on two scans; the third pair brings them together.'] : HEADS[r.value.kind]))
const before = computed<Record<string, number[][]>>(() => (r.value.placement ? ((j.byId.get(r.value.placement)?.summary as any)?.motions ?? {}) : {}))
const list = computed<string[]>(() => (r.value.kind === 'match' ? j.joinScans.map((x) => x.id) : Object.keys(before.value)))
const placed = computed<string[]>(() => Object.keys(s.value?.motions ?? {}))
function takes(id: string) {
  return r.value.kind === 'match' ? r.value.scans.includes(id) : !r.value.leave_out.includes(id)
}
function toggle(id: string) {
  const key = r.value.kind === 'match' ? 'scans' : 'leave_out'
  const have: string[] = r.value[key]
  r.value[key] = have.includes(id) ? have.filter((x) => x !== id) : [...have, id]
  j.preview = null
  if (r.value.kind !== 'match' || (r.value.scans.length > 1 && r.value.by === 'itself')) j.tryIt()
}
function hold(id: string) {
  r.value.held = r.value.held.includes(id) ? r.value.held.filter((x: string) => x !== id) : [...r.value.held, id]
  j.preview = null
  j.tryIt()
}
function set(key: string, text: string) {
  r.value[key] = text === '' ? null : Number(text)
  j.preview = null
  if (r.value.by !== 'pairs') j.tryIt(250)
}
const NUMBERS: Record<string, [string, string, string][]> = {
  match: [['noise', "scanner's noise", 'from the scans']],
  settle: [['reach', 'looks as far as', 'from the scans']],
  merge: [['resolution', 'resolution', 'their spacing'], ['noise', "scanner's noise", 'from the scans']],
}
if (j.hand!.editing && !j.preview) j.tryIt(0)
</script>

<template>
  <Head :title="head[0]" :says="head[1]" />
  <PairList v-if="r.kind === 'match' && (r.by === 'pairs' || r.pairs.length)" />
  <section class="section">
    <h3>Give</h3>
    <ul class="mt-1.5 space-y-0.5" aria-label="Scans given">
      <li v-for="id in list" :key="id" class="flex items-center gap-2">
        <label class="flex min-w-0 flex-1 items-center gap-2"><input type="checkbox" class="accent-[#23262A]" :checked="takes(id)" :aria-label="`Take ${nameOf(id)}`" @change="toggle(id)" />
          <span class="h-[11px] w-[11px] shrink-0 rounded-[2px]" :style="{ background: css(id) }" /><span class="fig text-soft">{{ numberOf(id) }}</span><span class="truncate">{{ nameOf(id) }}</span></label>
        <button v-if="r.kind === 'settle' && takes(id)" class="btn !px-1.5 !py-0" :class="{ 'btn-on': r.held.includes(id) }" :aria-pressed="r.held.includes(id)" :title="r.held.includes(id) ? 'Free to move' : 'Stays where it is'" @click="hold(id)">fixed</button>
        <span v-else-if="r.kind === 'match' && before[id]" class="text-soft">stays</span>
      </li>
    </ul>
    <label v-for="[key, name, empty] in NUMBERS[r.kind]" :key="key" class="mt-1.5 flex items-center gap-2"><span class="w-[104px]">{{ name }}</span>
      <input type="number" class="field fig w-20" min="0" step="0.01" :value="r[key]" @change="set(key, ($event.target as HTMLInputElement).value)" /><span class="text-soft">{{ r[key] === null ? empty : 'mm' }}</span></label>
    <p v-if="r.kind === 'settle' && !r.held.length" class="mt-1 text-soft">None fixed: the first stays.</p>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">{{ r.by === 'pairs' ? 'After the third pair the moving scan jumps into place.' : 'What the scans say shows here.' }}</p>
    <template v-else-if="r.kind !== 'merge'">
      <p class="mt-1.5"><b class="fig font-semibold" data-figure="placed">{{ placed.length }}</b> of <span class="fig">{{ r.kind === 'match' ? r.scans.length : list.length }}</span> placed<template v-if="s.rms !== null">, <span class="fig" data-figure="rms">{{ s.rms.toFixed(3) }}</span> mm apart (rms)</template></p>
      <LinkTable v-if="s.links.length" :links="s.links" :scans="placed" />
      <ShownAs v-if="s.links.length" :mesh="false" />
      <LeftOut v-if="r.kind === 'match'" :refused="s.refused" />
      <dl v-if="r.kind === 'settle'" class="mt-1.5 grid grid-cols-[1fr_auto] gap-y-0.5" aria-label="How far each moved"><template v-for="(d, id) in s.moved" :key="id"><dt class="truncate">{{ numberOf(String(id)) }} {{ nameOf(String(id)) }} moved</dt><dd class="fig">{{ d.toFixed(3) }} mm</dd></template></dl>
    </template>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1">
        <dt>triangles</dt><dd class="fig" data-figure="triangles">{{ s.triangles.toLocaleString('en') }}</dd>
        <dt>resolution</dt><dd class="fig">{{ s.resolution.toFixed(3) }} mm</dd>
        <dt>points about it</dt><dd class="fig" data-figure="spread">{{ s.spread.toFixed(3) }} mm rms</dd>
        <dt>doubled, dropped</dt><dd class="fig">{{ s.dropped.toLocaleString('en') }}</dd>
      </dl>
      <ShownAs mesh />
    </template>
  </section>
</template>
