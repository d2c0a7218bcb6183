<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { PickRecord, Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import Residuals from '../../bench/Residuals.vue'
import Rule from '../../bench/Rule.vue'
import { mm, whole } from '../../state/format'
import { useStep } from '../useStep'
import { isHeld } from './held'
import HoldIt from './HoldIt.vue'
import { NAME_OF, SURFACE_OF, TITLE_OF, type Element } from './elements'

type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null; read?: boolean }
const { job: j, hand, marks, r, told: s } = useStep<Record, Schemas['DatumTold']>()
if (hand.held!.editing || r.value.pick) {
  if (r.value.pick) hand.showPick(r.value.scan, r.value.pick, r.value.element)
  hand.slot = 'place'
}
// What the scan says it is becomes what it is: laid, it stays that on the next scan too.
watch(s, (told) => {
  if (!told || r.value.element !== 'best') return
  const element = told.element as Element
  const free = Object.values(NAME_OF).some((n) => r.value.name.replace(/ \d+$/, '') === n)
  Object.assign(r.value, { element, read: true, ...(free && { name: j.freeName(NAME_OF[element]) }) })
})
function kind(e: Element) {
  r.value.element = e
  r.value.read = false
  if (!r.value.pick) return
  hand.showPick(r.value.scan, r.value.pick, e)
  hand.tryIt(0)
}
/** Each kind it could be; what it scatters as, the likeliest first. */
const kinds = computed(() => {
  const told = s.value
  if (!told) return []
  const found = told.could_be ?? []
  return found.length
    ? found
    : [{ element: told.element, size: '', scatter: told.scatter, cost: told.scatter as number | null }]
})
/** What else can be taken from the same place: its kind, what it is called, its name and its own fields. */
const INSTEAD: [string, string, string, object][] = [
  ['read_edge', 'the edge beside it', 'Edge', {}],
  ['flat_outline', 'the outline of this wall', 'Outline', { shape: 'best', on: null, along: null }],
  ['read_point', 'this point', 'Point', {}],
]
function instead(kind: string, name: string, more: object) {
  const pick = { ...r.value.pick!, rule: 'same facing', angle_deg: null, marks: [] }
  hand.takeUp(kind, { name: j.freeName(name), scan: r.value.scan, pick, ...more } as never)
  hand.slot = 'pick'
  hand.tryIt(0)
}
const strokes = computed(() => r.value.pick?.marks?.length ?? 0)
/** The brush takes the hand, or gives it back. */
function brush() {
  hand.slot = hand.slot === 'brushed' ? 'place' : 'brushed'
  if (hand.slot === 'brushed') marks.by = 'brush'
}
const asideShown = ref(false)
watch(s, () => (asideShown.value = false))
/** Light what the fit left out, or the pick again. */
function showAside() {
  asideShown.value = !asideShown.value
  hand.showPick(r.value.scan, r.value.pick!, s.value!.element, asideShown.value)
}
function keepAll() {
  r.value.keep_all = !r.value.keep_all
  hand.tryIt(0)
}
const direction = computed(() => {
  const u = 2 * (s.value?.direction_uncertainty_deg ?? 0)
  return u < 0.0005 ? '<0.001' : u.toFixed(3)
})
const WORDS: { [k: string]: string } = {
  cylinder: 'diameter',
  sphere: 'diameter',
  torus: 'tube',
  cone: 'half angle',
}
const sides = computed(() => {
  const flat = (s.value?.between ?? []).filter((k) => k === 'plane').length
  return ['two round sides', 'a flat side and a round one', 'two flat sides'][flat]
})
const anyHold = computed(() => isHeld(r.value))
const title = computed(() => TITLE_OF[s.value ? r.value.element : 'best'])
</script>

<template>
  <Head
    :title="title"
    says="Click the surface once; it spreads as far as it goes on, and every kind it could be is fitted."
  />
  <section class="section">
    <h3>Give</h3>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'place' }" @click="hand.slot = 'place'">
      <span class="w-[68px] text-soft">surface</span
      ><span v-if="r.pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span
        :class="r.pick ? 'font-semibold' : 'text-soft'"
        >{{ r.pick ? 'picked on scan' : 'click it in the view' }}</span
      >
    </button>
    <Rule v-if="r.pick" :pick="r.pick" :element="r.element" />
    <button
      v-if="r.pick"
      class="slot mt-1.5"
      :class="{ 'slot-on': hand.slot === 'brushed' }"
      :aria-pressed="hand.slot === 'brushed'"
      title="Hold B and drag, too"
      @click="brush"
    >
      <span class="w-[68px] text-soft">brush</span
      ><span :class="strokes ? 'font-semibold' : 'text-soft'">{{
        strokes ? `${strokes} ${strokes === 1 ? 'stroke' : 'strokes'}` : 'more on it, or some off it'
      }}</span>
    </button>
  </section>
  <section v-if="s" class="section" aria-label="It could be">
    <h3>It could be</h3>
    <ul class="mt-1.5 space-y-1">
      <li v-for="(k, i) in kinds" :key="k.element">
        <button
          class="offer"
          :class="{ 'offer-first': k.element === r.element }"
          :aria-pressed="k.element === r.element"
          @click="kind(k.element as Element)"
        >
          <span class="flex items-baseline justify-between gap-2">
            <b class="font-semibold">{{ SURFACE_OF[k.element as Element] }}</b>
            <span class="fig whitespace-nowrap">{{ k.size }}</span>
          </span>
          <span class="fig block text-soft">{{
            i === 0
              ? `scatter ${mm(k.scatter)}${anyHold ? ', free' : ''}`
              : k.cost === null
                ? 'does not lie here'
                : `would scatter ${mm(k.cost)}`
          }}</span>
        </button>
      </li>
    </ul>
    <p v-if="!hand.held!.editing" class="mt-1.5 text-soft">
      or take
      <template v-for="([what, says, name, more], i) in INSTEAD" :key="what">
        <template v-if="i">, </template>
        <button class="underline" @click="instead(what, name, more)">{{ says }}</button>
      </template>
    </p>
  </section>
  <HoldIt v-if="s" />
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Fitting' : 'What the scan says shows here once a surface is picked.' }}
    </p>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
        <dt>{{ WORDS[s.element] ?? 'place' }}</dt>
        <dd class="fig" :data-figure="WORDS[s.element] ?? 'place'">{{ s.says }}</dd>
        <template v-if="s.direction_uncertainty_deg !== null">
          <dt>direction</dt>
          <dd class="fig">± {{ direction }}°</dd>
        </template>
        <dt>scatter</dt>
        <dd class="fig" data-figure="scatter">
          {{ mm(s.scatter) }} mm rms{{ s.free_scatter ? `, free ${mm(s.free_scatter)}` : '' }}
        </dd>
        <dt>facets</dt>
        <dd class="fig" data-figure="facets">
          {{ whole(s.facets) }}{{ s.set_aside ? `, ${whole(s.set_aside)} set aside` : '' }}
          <button v-if="s.set_aside" class="ml-1 underline" :aria-pressed="asideShown" @click="showAside">
            {{ asideShown ? 'show the pick' : 'show' }}
          </button>
        </dd>
        <template v-if="s.set_aside || r.keep_all">
          <dt class="sr-only">set aside</dt>
          <dd class="col-start-2">
            <label class="flex items-center gap-2"
              ><input type="checkbox" class="accent-ink" :checked="r.keep_all" @change="keepAll" /> count them
              too</label
            >
          </dd>
        </template>
        <dt>area</dt>
        <dd class="fig">{{ Number(s.area.toPrecision(4)) }} mm²</dd>
      </dl>
      <p v-if="s.between?.length" class="mt-1" data-figure="between">
        A narrow rounding, held tangent to what lies on either side: {{ sides }}.
      </p>
      <p class="mt-1 text-soft">± is two sigma: nineteen times of twenty the true value lies within.</p>
      <Residuals :histogram="s.histogram" :scatter="s.scatter" />
    </template>
  </section>
</template>
