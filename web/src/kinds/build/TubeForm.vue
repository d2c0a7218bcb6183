<script setup lang="ts">
/** A tube: where it was clicked, its diameter and wall, and the bend table as a bender reads it. */
import { computed, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { mm, pm, typed } from '../../state/format'
import { useStep } from '../useStep'

type Record = Schemas['TubeStep'] & { wider?: boolean }
const { hand, shown, r, told } = useStep<Record, Schemas['TubeTold']>()
const diameter = computed(() =>
  (hand.preview?.values ?? []).find((v) => v.name.split('.').at(-1) === 'diameter'),
)
function choose(value: number | null, source: string) {
  r.value.diameter = { value, source: source as Schemas['Chosen']['source'] }
  hand.tryIt(0)
}
function setWall(e: Event) {
  const value = typed((e.target as HTMLInputElement).value)
  r.value.wall = { value: value && value > 0 ? value : null, source: 'hand reading' }
  if (r.value.places.length) hand.tryIt(0)
}
function keep(e: Event) {
  r.value.known = (e.target as HTMLInputElement).checked
  if (r.value.places.length) hand.tryIt(0)
}
function clear() {
  r.value.places = []
  hand.stopTrying()
  hand.preview = null
}
function round(e: Event) {
  r.value.rounded = (e.target as HTMLInputElement).checked
  hand.tryIt(0)
}
/** Trimmed where less than nothing. */
function longer(end: 'before' | 'after', e: Event) {
  r.value[end] = typed((e.target as HTMLInputElement).value) ?? 0
  hand.tryIt(0)
}
/** Marks are told by what is brushed; the tube is read anew once the hand is off them. */
watch(
  () => r.value.marks.length,
  () => r.value.places.length && hand.tryIt(),
)
/** Two standard deviations. */
const within = (sigma: number | null | undefined, unit = '') =>
  sigma === null || sigma === undefined ? '' : pm(2 * sigma) + unit
const degrees = (v: number) => `${mm(v, 2)}°`
/** A bend's figures, each with how sure it is; the first is not turned against any. */
const figures = (b: Schemas['BendTold'], first: boolean) => [
  [mm(b.length), within(b.sure?.length)],
  first ? ['', ''] : [degrees(b.rotation_deg), within(b.sure?.rotation_deg, '°')],
  [degrees(b.angle_deg), within(b.sure?.angle_deg, '°')],
  [mm(b.radius), within(b.sure?.radius)],
]
</script>

<template>
  <Head
    title="Tube"
    says="Click a tube on the scan: its straights, bends and diameter are read from its outside."
  />
  <section class="section">
    <h3>Give</h3>
    <div class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'places' }">
      <button class="flex min-w-0 flex-1 gap-2 text-left" @click="hand.slot = 'places'">
        <span class="w-[52px] text-soft">places</span>
        <span :class="r.places.length ? 'font-semibold' : 'text-soft'">{{
          r.places.length ? `${r.places.length} clicked` : 'click the tube'
        }}</span>
      </button>
      <button v-if="r.places.length" class="underline" @click="clear">clear</button>
    </div>
    <p v-if="r.places.length === 1" class="mt-1 text-soft">
      Goes astray? Click one end, places it goes by, the other end.
    </p>
    <button
      v-if="r.places.length"
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'marks' }"
      @click="hand.slot = hand.slot === 'marks' ? 'places' : 'marks'"
    >
      <span class="w-[52px] text-soft">leave</span>
      <span :class="r.marks.length ? 'font-semibold' : 'text-soft'">{{
        r.marks.length ? `${r.marks.length} marks are not this tube` : 'brush what is not this tube'
      }}</span>
    </button>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[60px] pl-2 text-soft">wall</span>
      <input
        v-typing
        type="number"
        min="0"
        step="any"
        class="field fig w-[90px]"
        placeholder="solid"
        aria-label="Wall, mm"
        :value="r.wall.value ?? ''"
        @change="setWall"
      />
      <span class="text-soft">mm, by hand</span>
    </label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!told" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Following the tube' : 'Its bend table shows here once the tube is clicked.' }}
    </p>
    <template v-else>
      <Chip v-if="diameter" v-bind="diameter" @choose="choose" />
      <label v-if="r.diameter.value !== null" class="mt-1 flex items-center gap-1.5">
        <input type="checkbox" class="accent-ink" :checked="r.known" @change="keep" />
        <span>keep it while the path is read</span>
      </label>
      <table class="mt-2 w-full" aria-label="Bend table">
        <thead>
          <tr class="text-left text-soft">
            <th class="font-normal">straight</th>
            <th class="text-right font-normal">turned</th>
            <th class="text-right font-normal">bend</th>
            <th class="text-right font-normal">radius</th>
          </tr>
        </thead>
        <tbody class="fig">
          <tr v-for="(b, k) in told.bends" :key="k" class="align-top" data-bend>
            <td v-for="([is, sure], n) in figures(b, !k)" :key="n" :class="{ 'text-right': n }">
              {{ is }}<span class="block text-[11px] text-soft" v-text="sure" />
            </td>
          </tr>
          <tr>
            <td>{{ mm(told.end_length) }}</td>
            <td colspan="3" class="text-right text-soft">to the end</td>
          </tr>
        </tbody>
      </table>
      <label class="mt-1.5 flex items-center gap-1.5">
        <input type="checkbox" class="accent-ink" :checked="r.rounded" @change="round" />
        <span>in round numbers</span>
        <span v-if="r.rounded" class="fig text-soft" data-figure="costs"
          >moves it by {{ mm(told.costs) }} rms</span
        >
      </label>
      <label class="mt-1 flex items-center gap-1.5">
        <input v-model="r.wider" type="checkbox" class="accent-ink" />
        <span>colour it by its width against the diameter</span>
      </label>
      <p v-if="r.wider && shown.reach" class="mt-1 text-soft">
        Rust is wider, teal narrower; full colour at ±
        <span class="fig">{{ shown.reach.toFixed(3) }}</span> mm.
      </p>
      <div class="mt-1.5 flex items-center gap-2">
        <span class="whitespace-nowrap">longer by</span>
        <input
          v-for="end in ['before', 'after'] as const"
          :key="end"
          v-typing
          type="number"
          step="any"
          class="field fig w-[60px]"
          :aria-label="end === 'before' ? 'Longer at its begin, mm' : 'Longer at its end, mm'"
          :value="r[end]"
          @change="longer(end, $event)"
        /><span class="whitespace-nowrap text-soft">mm at ends</span>
      </div>
      <p class="mt-1.5 text-soft">
        The scan shows {{ Math.round(100 * told.seen) }} % of its outside; it lies
        <span class="fig">{{ mm(told.rms) }}</span> mm rms off.
      </p>
    </template>
  </section>
</template>
