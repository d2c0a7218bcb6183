<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { typed } from '../../state/format'
import { useSchemas } from '../../state/schemas'
import { useStep } from '../useStep'
import { calledOf, failed, useFigures } from './figures'
import { suits, waysOf, type WayName } from './ways'

type Record = Schemas['ConstructStep']
const { job: j, hand, r, told: s } = useStep<Record, Schemas['ConstructTold']>()
const schemas = useSchemas()
if (!hand.slot) hand.slot = 'of'
const given = computed(() => r.value.of.map((id) => j.byId.get(id)).filter((x) => !!x))
const ways = computed(() => waysOf(schemas.value).filter(([, w]) => suits(w, given.value)))
const way = computed(() => waysOf(schemas.value).find(([name]) => name === r.value.way)?.[1])
/** The way suits what is given, also where the ways are known only once datums have been clicked. */
function fitting() {
  if (ways.value.length && !ways.value.some(([name]) => name === r.value.way)) r.value.way = ways.value[0][0]
}
watch(
  () => [r.value.of.length, ways.value.length],
  () => {
    fitting()
    if (ways.value.length && !hand.preview) hand.tryIt(0)
  },
  { immediate: true },
)
const figures = useFigures(() => ways.value.map(([name]) => name))
/** The given datums one after another, once a person has chosen among their ways themselves. */
const chosenFor = ref('')
const these = computed(() => r.value.of.join())
function choose(name: WayName) {
  chosenFor.value = these.value
  r.value.way = name
  hand.again()
}
/** What comes first may give nothing as these lie (parallel planes never meet): then the first that gives. */
watch(figures, () => {
  if (chosenFor.value === these.value || !failed(figures.get(r.value.way))) return
  const works = ways.value.find(([name]) => figures.has(name) && !failed(figures.get(name)))
  if (works) {
    r.value.way = works[0]
    hand.again()
  }
})
function without(id: string) {
  r.value.of = r.value.of.filter((x) => x !== id)
  if (ways.value.length) {
    fitting()
    hand.again()
  } else hand.preview = null
}
function number(key: 'distance' | 'angle_deg', e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  if (v !== null) r.value[key] = v
  hand.tryIt(0)
}
const place = computed(() => {
  const at = s.value?.parameters.point as number[] | undefined
  return at ? at.map((v) => v.toFixed(3)).join('  ') : ''
})
</script>

<template>
  <Head title="Construct" says="Click the datums to make one of; what they allow is listed." />
  <section class="section">
    <h3>Give</h3>
    <ul class="mt-1.5 space-y-1" aria-label="Made of">
      <li v-for="d in given" :key="d.id" class="slot">
        <span class="h-[11px] w-[11px] shrink-0 rounded-[2px] bg-plum" />
        <span class="min-w-0 flex-1 truncate font-semibold">{{ d.name }}</span>
        <button class="text-soft hover:text-ink" :aria-label="`Without ${d.name}`" @click="without(d.id)">
          ×
        </button>
      </li>
    </ul>
    <button class="slot mt-1" :class="{ 'slot-on': hand.slot === 'of' }" @click="hand.slot = 'of'">
      <span class="text-soft">{{
        given.length ? 'click another, or again to let go' : 'click a datum in the view or the yard'
      }}</span>
    </button>
  </section>
  <section v-if="given.length" class="section" aria-label="Ways">
    <h3>Make</h3>
    <p v-if="!ways.length" class="mt-1.5 text-soft">Nothing is made of these alone; click another datum.</p>
    <ul class="mt-1.5 space-y-1">
      <li v-for="[name, w] in ways" :key="name">
        <button
          class="offer !py-1"
          :class="{ 'offer-first': r.way === name }"
          :aria-pressed="r.way === name"
          @click="choose(name)"
        >
          <span :class="{ 'text-soft': failed(figures.get(name)) }">{{ w.title }}</span>
          <span v-if="failed(figures.get(name))" class="block text-[11.5px] text-soft">{{
            (figures.get(name) as { not: string }).not
          }}</span>
          <span v-else class="fig block text-soft">{{
            (figures.get(name) as { gives: string } | undefined)?.gives ?? '·'
          }}</span>
        </button>
      </li>
    </ul>
    <template v-if="way && ways.length">
      <label v-for="k in way.asks" :key="k" class="mt-1.5 flex items-center gap-2">
        <span class="w-[76px]">{{ k === 'distance' ? 'distance' : 'angle' }}</span>
        <input
          v-typing
          type="number"
          class="field fig w-24"
          step="any"
          :value="r[k]"
          @change="number(k, $event)"
        />
        <span class="text-soft">{{ k === 'distance' ? 'mm' : '°' }}</span>
      </label>
      <label v-if="way.turns_round" class="mt-1.5 flex items-center gap-2">
        <input
          type="checkbox"
          class="accent-ink"
          :checked="r.flip"
          @change="((r.flip = !r.flip), hand.tryIt(0))"
        />
        {{ way.asks.length ? 'to the other side' : 'the other half' }}
      </label>
    </template>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">What it gives shows here.</p>
    <dl v-else class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
      <template v-if="s.between">
        <dt>between them</dt>
        <dd class="fig" data-figure="between them">{{ s.between }}</dd>
      </template>
      <dt>gives</dt>
      <dd data-figure="gives">{{ calledOf(s.element) }}</dd>
      <dt>at</dt>
      <dd class="fig" data-figure="place">{{ place }}</dd>
      <dt>place</dt>
      <dd class="fig">{{ s.says }} mm</dd>
      <template v-if="s.direction_uncertainty_deg !== null">
        <dt>direction</dt>
        <dd class="fig">± {{ (2 * s.direction_uncertainty_deg).toFixed(3) }}°</dd>
      </template>
    </dl>
  </section>
</template>
