<script setup lang="ts">
import { computed, watch } from 'vue'
import type { PickRecord, Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import Residuals from '../../bench/Residuals.vue'
import Rule from '../../bench/Rule.vue'
import { mm, typed, whole } from '../../state/format'
import { useStep } from '../useStep'
import { NAME_OF, SURFACE_OF, TITLE_OF, type Element } from './elements'

type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null; read?: boolean }
const { job: j, hand, r, told: s } = useStep<Record, Schemas['DatumTold']>()
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
const datums = computed(() => j.before(r.value.id, 'datum'))
const held = computed(() => !!(r.value.along || r.value.square_to || r.value.radius || r.value.flip))
function hold(key: 'along' | 'square_to', id: string) {
  r.value.along = r.value.square_to = null
  r.value[key] = id || null
  hand.tryIt(0)
}
function radius(e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  r.value.radius = v !== null && v > 0 ? v : null
  hand.tryIt(0)
}
function flip() {
  r.value.flip = !r.value.flip
  hand.tryIt(0)
}
const direction = computed(() => {
  const u = 2 * (s.value?.direction_uncertainty_deg ?? 0)
  return u < 0.0005 ? '<0.001' : u.toFixed(3)
})
const sized = computed(() => s.value && ['cylinder', 'sphere', 'torus'].includes(s.value.element))
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
              ? `scatter ${mm(k.scatter)}`
              : k.cost === null
                ? 'does not lie here'
                : `would scatter ${mm(k.cost)}`
          }}</span>
        </button>
      </li>
    </ul>
  </section>
  <section v-if="s" class="section">
    <details :open="held">
      <summary class="cursor-pointer"><h3 class="inline">Hold it</h3></summary>
      <label
        v-for="[k, words] in [
          ['along', 'along'],
          ['square_to', 'square to'],
        ] as const"
        :key="k"
        class="slot mt-1.5"
      >
        <span class="w-[68px] text-soft">{{ words }}</span>
        <select
          class="min-w-0 flex-1 bg-transparent font-semibold"
          :aria-label="words"
          :value="r[k] ?? ''"
          @change="hold(k, ($event.target as HTMLSelectElement).value)"
        >
          <option value="">free</option>
          <option v-for="d in datums" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
      </label>
      <label v-if="sized" class="mt-1.5 flex items-center gap-2"
        ><span class="w-[76px]">radius</span>
        <input
          v-typing
          type="number"
          class="field fig w-20"
          min="0"
          step="any"
          :value="r.radius"
          @change="radius"
        />
        <span class="text-soft">{{ r.radius ? 'mm' : 'as read' }}</span></label
      >
      <label v-if="s.element !== 'sphere' && s.element !== 'cone'" class="mt-1.5 flex items-center gap-2">
        <input type="checkbox" class="accent-ink" :checked="r.flip" @change="flip" /> turned round
      </label>
    </details>
  </section>
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
        </dd>
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
