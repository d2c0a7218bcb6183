<script setup lang="ts">
/** Holes: those that were clicked, how they go, and each size as the scan says and as it was chosen. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { typed } from '../../state/format'
import { useStep } from '../useStep'
import { holeWords } from './holeWords'

type Record = Schemas['DrillStep']
type Size = 'diameter' | 'depth' | 'tip' | 'head_diameter' | 'head_depth' | 'head_angle'
const { job: j, hand, r, told } = useStep<Record, Schemas['DrillTold']>()
const bodies = computed(() => j.before(r.value.id, 'body'))
const GOES: [Record['goes'], string][] = [
  ['read', 'As read'],
  ['through', 'Through'],
  ['blind', 'Blind'],
]
const HEADS: [Record['head'], string][] = [
  ['read', 'as read'],
  ['plain', 'plain'],
  ['counterbore', 'counterbore'],
  ['countersink', 'countersink'],
]
const own = (name: string) => name.split('.').at(-1)!
const values = computed(() => hand.preview?.values ?? [])
const sizes = computed(() => values.value.filter((v) => !/^[uv]\d+$/.test(own(v.name))))
const places = computed(() => values.value.filter((v) => /^[uv]\d+$/.test(own(v.name))))
/** Sizes that have to be typed: asked for, and not seen on the scan. */
const typedSizes = computed<[Size, string, string][]>(() => {
  const known = new Set(sizes.value.map((v) => own(v.name)))
  const asked: [Size, string, string][] = []
  if (r.value.goes === 'blind') asked.push(['depth', 'depth', 'mm'])
  if (r.value.head === 'counterbore' || r.value.head === 'countersink')
    asked.push(['head_diameter', 'head ⌀', 'mm'])
  if (r.value.head === 'counterbore') asked.push(['head_depth', 'head depth', 'mm'])
  if (r.value.head === 'countersink') asked.push(['head_angle', 'head angle', '°'])
  return asked.filter(([key]) => !known.has(key))
})
function set<K extends keyof Record>(key: K, value: Record[K]) {
  r.value[key] = value
  if (r.value.places.length) hand.tryIt(0)
}
function choose(name: string, value: number | null, source: string) {
  const chosen = { value, source: source as Schemas['Chosen']['source'] }
  const at = /^([uv])(\d+)$/.exec(own(name))
  if (at) r.value.places[Number(at[2]) - 1][at[1] as 'u' | 'v'] = chosen
  else r.value[own(name) as Size] = chosen
  hand.tryIt(0)
}
function clear() {
  r.value.places = []
  hand.stopTrying()
  hand.preview = null
}
const notes = computed(() => told.value?.notes ?? [])
</script>

<template>
  <Head
    title="Drilled holes"
    says="Click the wall of each hole on the scan; where it lies, how wide and how deep is read from it."
  />
  <section class="section">
    <h3>Give</h3>
    <label class="slot mt-1.5"
      ><span class="w-[52px] text-soft">body</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        :value="r.body"
        @change="set('body', ($event.target as HTMLSelectElement).value)"
      >
        <option v-for="b in bodies" :key="b.id" :value="b.id">{{ b.name }}</option>
      </select></label
    >
    <div class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'places' }">
      <button class="flex min-w-0 flex-1 gap-2 text-left" @click="hand.slot = 'places'">
        <span class="w-[52px] text-soft">holes</span>
        <span :class="r.places.length ? 'font-semibold' : 'text-soft'">{{
          r.places.length ? `${r.places.length} clicked` : 'click their walls'
        }}</span>
      </button>
      <button v-if="r.places.length" class="underline" @click="clear">clear</button>
    </div>
    <div class="mt-1.5 flex gap-1.5" role="group" aria-label="goes">
      <button
        v-for="[v, words] in GOES"
        :key="v"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.goes === v }"
        :aria-pressed="r.goes === v"
        @click="set('goes', v)"
      >
        {{ words }}
      </button>
    </div>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[60px] pl-2 text-soft">head</span>
      <select
        class="field flex-1"
        :value="r.head"
        @change="set('head', ($event.target as HTMLSelectElement).value as Record['head'])"
      >
        <option v-for="[v, words] in HEADS" :key="v" :value="v">{{ words }}</option>
      </select>
    </label>
    <label v-for="[key, words, unit] in typedSizes" :key="key" class="mt-1.5 flex items-center gap-2">
      <span class="w-[84px] pl-2 text-soft">{{ words }}</span>
      <input
        v-typing
        type="number"
        step="any"
        class="field fig w-[90px]"
        :value="r[key].value"
        @change="choose(key, typed(($event.target as HTMLInputElement).value), 'typed')"
      />
      <span class="text-soft">{{ unit }}</span>
    </label>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[60px] pl-2 text-soft">thread</span>
      <input
        v-typing
        class="field min-w-0 flex-1"
        maxlength="40"
        placeholder="a note, where it is tapped"
        :value="r.thread"
        @change="set('thread', ($event.target as HTMLInputElement).value)"
      />
    </label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!told" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Reading the scan' : 'What the scan says shows here once a hole is clicked.' }}
    </p>
    <p v-else class="mt-1.5 font-semibold" data-figure="holes">
      {{ told.holes.length }} × {{ holeWords(told) }}
    </p>
    <Chip
      v-for="v in sizes"
      :key="v.name"
      v-bind="v"
      @choose="(x: number, w: string) => choose(v.name, x, w)"
    />
    <p v-for="n in notes" :key="n" class="mt-1 text-soft" data-figure="note">
      {{ n[0]!.toUpperCase() + n.slice(1) }}.
    </p>
    <details v-if="places.length" class="mt-2">
      <summary class="cursor-pointer text-soft">Where they lie</summary>
      <Chip
        v-for="v in places"
        :key="v.name"
        v-bind="v"
        @choose="(x: number, w: string) => choose(v.name, x, w)"
      />
    </details>
  </section>
</template>
