<script setup lang="ts">
/** An organic body: what is left out, how many patches and how close, and its layout changed by hand. */
import { computed, ref } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { short, typed } from '../../state/format'
import { useStep } from '../useStep'
import type { Surfacing } from './surfacing'

const { hand, marks: m, shown, r, told } = useStep<Surfacing, Schemas['SurfacingTold']>()
const SIDES = [
  ['left out', 'left out'],
  ['kept', 'all that stays'],
] as const
const CHANGES = [
  [undefined, 'move corners'],
  ['split', 'split'],
  ['join', 'join'],
] as const
/** What the patches on show were fitted to. */
const of = () => JSON.stringify([r.value.marks, r.value.marked])
const fitted = ref(r.value.id ? of() : '')
const stale = computed(() => !told.value || fitted.value !== of())

function number(key: 'patches' | 'closeness', e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  if (v === null) return
  r.value[key] = v
  if (told.value) hand.tryIt(0)
}
function fit() {
  shown.show.model = true
  hand.slot = null
  fitted.value = of()
  hand.tryIt(0)
}
function change(to: Surfacing['change']) {
  r.value.change = to
  hand.slot = 'layout'
}
function back() {
  r.value.by_hand = r.value.by_hand.slice(0, -1)
  hand.tryIt(0)
}
if (r.value.id) hand.tryIt(0)
if (r.value.marks.length) hand.select()
else m.by = 'zone'
</script>

<template>
  <Head
    title="Organic body"
    says="Mark what is not organic: bores, flats, faces. All else becomes one closed body of smooth patches."
  />
  <section class="section">
    <h3>Give</h3>
    <button
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'marks' }"
      @click="hand.slot = hand.slot === 'marks' ? null : 'marks'"
    >
      <span class="w-[60px] text-soft">marked</span>
      <span :class="r.marks.length ? 'font-semibold' : 'text-soft'">{{
        r.marks.length ? `${r.marks.length} marks` : 'nothing: the whole scan'
      }}</span>
    </button>
    <div v-if="r.marks.length" class="mt-1.5 flex items-center gap-1.5">
      is
      <button
        v-for="[s, name] in SIDES"
        :key="s"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.marked === s }"
        :aria-pressed="r.marked === s"
        @click="r.marked = s"
      >
        {{ name }}
      </button>
    </div>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[80px] pl-2 text-soft">at most</span>
      <input
        v-typing
        type="number"
        min="6"
        max="400"
        step="6"
        class="field fig w-[72px]"
        aria-label="Patches at most"
        :value="r.patches"
        @change="(e) => number('patches', e)"
      />
      <span class="text-soft">patches</span>
    </label>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[80px] pl-2 text-soft">calm</span>
      <input
        type="range"
        min="-2"
        max="2"
        step="0.25"
        class="min-w-0 flex-1 accent-ink"
        aria-label="Calm or close"
        :value="r.closeness"
        @change="(e) => number('closeness', e)"
      />
      <span class="text-soft">close</span>
    </label>
    <button v-if="stale" class="btn mt-2 w-full" :disabled="hand.previewing" @click="fit">
      {{ told ? 'Fit it again' : 'Fit the patches' }}
    </button>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!told" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Laying out and fitting; this takes a while' : 'What it gives shows here.' }}
    </p>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
        <dt>patches</dt>
        <dd class="fig" data-figure="patches">
          {{ told.patches }} of {{ told.spans }} × {{ told.spans }} spans
        </dd>
        <dt>95 % within</dt>
        <dd class="fig" data-figure="p95">{{ told.p95.toFixed(4) }} mm</dd>
        <dt>rms</dt>
        <dd class="fig">{{ told.rms.toFixed(4) }} mm · noise {{ told.noise.toFixed(4) }}</dd>
        <dt>joints turn</dt>
        <dd class="fig" data-figure="joints">
          {{ told.joints.angle_p95.toFixed(2) }}° · most {{ told.joints.angle_max.toFixed(2) }}°
        </dd>
        <dt>gaps</dt>
        <dd class="fig">{{ told.joints.gap < 1e-6 ? 'none' : `${told.joints.gap.toFixed(5)} mm` }}</dd>
        <dt>volume</dt>
        <dd class="fig" data-figure="volume">{{ short(told.volume / 1000) }} cm³</dd>
        <dt>left out</dt>
        <dd class="fig">
          {{ (100 * told.left_out).toFixed(1) }} %, {{ told.holes }}
          {{ told.holes === 1 ? 'hole' : 'holes' }} bridged
        </dd>
      </dl>
      <h4 class="mt-2 text-soft">Layout by hand</h4>
      <div class="mt-1 flex gap-1.5" role="group" aria-label="Layout by hand">
        <button
          v-for="[c, name] in CHANGES"
          :key="name"
          class="btn flex-1 !px-1"
          :class="{ 'btn-on': hand.slot === 'layout' && r.change === c }"
          :aria-pressed="hand.slot === 'layout' && r.change === c"
          @click="change(c)"
        >
          {{ name }}
        </button>
      </div>
      <p v-if="r.by_hand.length" class="mt-1.5 flex items-center justify-between">
        <span>{{ r.by_hand.length }} changed by hand</span>
        <button class="underline" @click="back">take the last back</button>
      </p>
    </template>
  </section>
</template>
