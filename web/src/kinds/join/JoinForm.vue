<script setup lang="ts">
/** Matching, settling or merging in hand: what is given, and what the scans say of it. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { typed, whole } from '../../state/format'
import type { PlacementTold } from '../../view3d/plan'
import { useStep } from '../useStep'
import LeftOut from './LeftOut.vue'
import LinkTable from './LinkTable.vue'
import PairList from './PairList.vue'
import ShownAs from './ShownAs.vue'
import { useNames } from './useNames'

/** What the three kinds hold between them. */
type Record = Partial<Omit<Schemas['MatchStep'], 'kind'>> &
  Partial<Omit<Schemas['SettleStep'], 'kind'>> &
  Partial<Omit<Schemas['MergeStep'], 'kind'>> & { kind: 'match' | 'settle' | 'merge' }
type Told = PlacementTold & Schemas['MergeTold']
const { job: j, hand, r, told: s } = useStep<Record, Told>()
const { nameOf, numberOf, css } = useNames()
const HEADS = {
  match: ['Rough match', 'Where each scan belongs, to a fraction of a millimetre.'],
  settle: ['Settle', 'All scans at once, so that error does not pile up around a ring.'],
  merge: ['Merge', 'Doubled layers go; what nothing saw stays open.'],
}
const BY_PAIRS = ['Match by pairs', 'The same places on two scans; the third pair brings them together.']
const head = computed(() => (r.value.by === 'pairs' ? BY_PAIRS : HEADS[r.value.kind]))
const before = computed(() => {
  const under = r.value.placement ? j.byId.get(r.value.placement) : null
  return j.toldOf<PlacementTold>(under)?.motions ?? {}
})
const matching = computed(() => r.value.kind === 'match')
const list = computed(() => (matching.value ? j.joinScans.map((x) => x.id) : Object.keys(before.value)))
const placed = computed(() => Object.keys(s.value?.motions ?? {}))
const takes = (id: string) =>
  matching.value ? r.value.scans!.includes(id) : !r.value.leave_out!.includes(id)
const without = (all: string[], id: string) => (all.includes(id) ? all.filter((x) => x !== id) : [...all, id])
function toggle(id: string) {
  if (matching.value) r.value.scans = without(r.value.scans!, id)
  else r.value.leave_out = without(r.value.leave_out!, id)
  hand.preview = null
  if (!matching.value || (r.value.scans!.length > 1 && r.value.by === 'itself')) hand.tryIt()
}
function hold(id: string) {
  r.value.held = without(r.value.held!, id)
  hand.again(120)
}
type NumberKey = 'noise' | 'reach' | 'resolution'
function set(key: NumberKey, text: string) {
  r.value[key] = typed(text)
  hand.preview = null
  if (r.value.by !== 'pairs') hand.tryIt(250)
}
const NUMBERS: { [K in Record['kind']]: [NumberKey, string, string][] } = {
  match: [['noise', "scanner's noise", 'from the scans']],
  settle: [['reach', 'looks as far as', 'from the scans']],
  merge: [
    ['resolution', 'resolution', 'their spacing'],
    ['noise', "scanner's noise", 'from the scans'],
  ],
}
</script>

<template>
  <Head :title="head[0]" :says="head[1]" />
  <PairList v-if="r.by === 'pairs' || r.pairs?.length" />
  <section class="section">
    <h3>Give</h3>
    <ul class="mt-1.5 space-y-0.5" aria-label="Scans given">
      <li v-for="id in list" :key="id" class="flex items-center gap-2">
        <label class="flex min-w-0 flex-1 items-center gap-2"
          ><input
            type="checkbox"
            class="accent-ink"
            :checked="takes(id)"
            :aria-label="`Take ${nameOf(id)}`"
            @change="toggle(id)"
          />
          <span class="h-[11px] w-[11px] shrink-0 rounded-[2px]" :style="{ background: css(id) }" /><span
            class="fig text-soft"
            >{{ numberOf(id) }}</span
          ><span class="truncate">{{ nameOf(id) }}</span></label
        >
        <button
          v-if="r.held && takes(id)"
          class="btn !px-1.5 !py-0"
          :class="{ 'btn-on': r.held.includes(id) }"
          :aria-pressed="r.held.includes(id)"
          :title="r.held.includes(id) ? 'Free to move' : 'Stays where it is'"
          @click="hold(id)"
        >
          fixed
        </button>
        <span v-else-if="matching && before[id]" class="text-soft">stays</span>
      </li>
    </ul>
    <label v-for="[key, name, empty] in NUMBERS[r.kind]" :key="key" class="mt-1.5 flex items-center gap-2"
      ><span class="w-[104px]">{{ name }}</span>
      <input
        v-typing
        type="number"
        class="field fig w-20"
        min="0"
        step="0.01"
        :value="r[key]"
        @change="set(key, ($event.target as HTMLInputElement).value)"
      /><span class="text-soft">{{ r[key] === null ? empty : 'mm' }}</span></label
    >
    <p v-if="r.held && !r.held.length" class="mt-1 text-soft">None fixed: the first stays.</p>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">
      {{
        r.by === 'pairs'
          ? 'After the third pair the moving scan jumps into place.'
          : 'What the scans say shows here.'
      }}
    </p>
    <template v-else-if="s.motions">
      <p class="mt-1.5">
        <b class="fig font-semibold" data-figure="placed">{{ placed.length }}</b> of
        <span class="fig">{{ matching ? r.scans!.length : list.length }}</span> placed<template
          v-if="s.rms !== null"
          >, <span class="fig" data-figure="rms">{{ s.rms.toFixed(3) }}</span> mm apart (rms)</template
        >
      </p>
      <LinkTable v-if="s.links.length" :links="s.links" :scans="placed" />
      <ShownAs v-if="s.links.length" :mesh="false" />
      <LeftOut v-if="matching" :refused="s.refused" />
      <dl v-if="r.held" class="mt-1.5 grid grid-cols-[1fr_auto] gap-y-0.5" aria-label="How far each moved">
        <template v-for="(d, id) in s.moved" :key="id"
          ><dt class="truncate">{{ numberOf(String(id)) }} {{ nameOf(String(id)) }} moved</dt>
          <dd class="fig">{{ d.toFixed(3) }} mm</dd></template
        >
      </dl>
    </template>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1">
        <dt>triangles</dt>
        <dd class="fig" data-figure="triangles">{{ whole(s.triangles) }}</dd>
        <dt>resolution</dt>
        <dd class="fig">{{ s.resolution.toFixed(3) }} mm</dd>
        <dt>points about it</dt>
        <dd class="fig" data-figure="spread">{{ s.spread.toFixed(3) }} mm rms</dd>
        <dt>doubled, dropped</dt>
        <dd class="fig">{{ whole(s.dropped) }}</dd>
      </dl>
      <ShownAs mesh />
    </template>
  </section>
</template>
