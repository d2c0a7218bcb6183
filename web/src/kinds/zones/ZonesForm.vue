<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { typed } from '../../state/format'
import { useStep } from '../useStep'
import { byHand, look, looked, next, type ZonesTold } from './shown'
import ZoneList from './ZoneList.vue'

type Record = Schemas['ZonesStep']
type Kind = NonNullable<Record['by_hand'][number]['kind']>
const { hand, r, told: s } = useStep<Record, ZonesTold>()
const KINDS: [Kind, string][] = [
  ['plane', 'flat'],
  ['cylinder', 'round'],
  ['cone', 'cone'],
  ['sphere', 'ball'],
  ['torus', 'ring'],
  ['freeform', 'free'],
]
const chosen = computed(() => (looked.zone === null ? null : (s.value?.zones[looked.zone] ?? null)))
function number(key: 'noise' | 'smallest', e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  r.value[key] = v !== null && v > 0 ? v : null
  look(null)
  hand.again(300)
}
const here = () => looked.place ?? (chosen.value!.place as [number, number, number])
function change(by: Partial<Record['by_hand'][number]>) {
  r.value.by_hand = [...r.value.by_hand, byHand({ ...by, place: here() })]
  look(null)
  hand.again()
}
const call = (kind: Kind) => change({ do: 'refit', kind })
function rename(e: Event) {
  const name = (e.target as HTMLInputElement).value.trim()
  if (name && name !== chosen.value!.name) change({ do: 'name', name })
}
function back() {
  r.value.by_hand = r.value.by_hand.slice(0, -1)
  look(null)
  hand.again()
}
</script>

<template>
  <Head title="Read zones" says="The scan is split into the surfaces it is made of, from its own scatter." />
  <section class="section">
    <h3>Give</h3>
    <label class="mt-1.5 flex items-center gap-2" title="The smallest deviation that matters">
      <span class="w-[104px]">what matters</span>
      <input
        v-typing
        type="number"
        class="field fig w-20"
        min="0"
        step="any"
        :value="r.noise"
        @change="number('noise', $event)"
      />
      <span class="text-soft">{{ r.noise ? 'mm' : 'the scan’s scatter' }}</span>
    </label>
    <details class="mt-2">
      <summary class="cursor-pointer text-soft">More</summary>
      <label class="mt-1.5 flex items-center gap-2" title="Area below which nothing is a zone">
        <span class="w-[104px]">smallest</span>
        <input
          v-typing
          type="number"
          class="field fig w-20"
          min="0"
          step="any"
          :value="r.smallest"
          @change="number('smallest', $event)"
        />
        <span class="text-soft">{{ r.smallest ? 'mm²' : '5 mm² or 12 facets' }}</span>
      </label>
    </details>
    <p v-if="r.by_hand.length" class="mt-2 flex items-center justify-between">
      <span>{{ r.by_hand.length }} changed by hand</span>
      <button class="btn !px-2 !py-0.5" @click="back">Take back the last</button>
    </p>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Reading the surfaces' : 'What it gives shows here.' }}
    </p>
    <dl v-else class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
      <dt>surfaces</dt>
      <dd class="fig" data-figure="count">{{ s.count }}</dd>
      <dt>covered</dt>
      <dd class="fig" data-figure="covered">{{ (100 * s.covered).toFixed(1) }} %</dd>
      <dt>scan scatters</dt>
      <dd class="fig" data-figure="noise">{{ s.noise.toFixed(4) }} mm</dd>
    </dl>
  </section>
  <ZoneList v-if="s" :told="s">
    <label class="mt-2 flex items-center gap-2"
      ><span class="w-[84px] text-soft">name</span>
      <input
        class="field min-w-0 flex-1"
        aria-label="name of the surface"
        maxlength="80"
        :value="chosen?.name"
        @change="rename"
      />
    </label>
    <p class="mt-2 text-soft">Call it</p>
    <div class="mt-1 flex flex-wrap gap-1" role="group" aria-label="Call it">
      <button
        v-for="[k, words] in KINDS"
        :key="k"
        class="btn !px-2 !py-0.5"
        :class="{ 'btn-on': chosen?.kind === k }"
        :aria-pressed="chosen?.kind === k"
        @click="call(k)"
      >
        {{ words }}
      </button>
    </div>
    <div class="mt-2 grid grid-cols-2 gap-1">
      <button
        class="btn"
        :class="{ 'btn-on': looked.next === 'join' }"
        :aria-pressed="looked.next === 'join'"
        @click="(next('join'), (looked.place ??= chosen!.place as [number, number, number]))"
      >
        Join a neighbour
      </button>
      <button
        class="btn"
        :class="{ 'btn-on': looked.next === 'split' }"
        :aria-pressed="looked.next === 'split'"
        @click="next('split')"
      >
        Split along a line
      </button>
      <button class="btn" :disabled="chosen?.kind === 'freeform'" @click="change({ do: 'grow' })">
        Grow on its shape
      </button>
      <button
        class="btn"
        :class="{ 'btn-on': looked.next === 'give' }"
        :aria-pressed="looked.next === 'give'"
        @click="next('give')"
      >
        Give a side away
      </button>
      <button
        class="btn"
        :class="{ 'btn-on': chosen?.locked }"
        :aria-pressed="!!chosen?.locked"
        @click="change({ do: chosen?.locked ? 'unlock' : 'lock' })"
      >
        {{ chosen?.locked ? 'Unlock' : 'Lock' }}
      </button>
    </div>
  </ZoneList>
</template>
