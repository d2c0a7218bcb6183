<script setup lang="ts">
/** Patches between curves: as its kind says; which regions stay open, what of the scan is not followed. */
import { computed, watch } from 'vue'
import type { Schemas } from '../../api/types'
import GeneratedForm from '../../bench/Form.vue'
import { useStep } from '../useStep'

const { hand, marks: m, shown, r, told } = useStep<Schemas['PatchingStep'], Schemas['PatchingTold']>()
const filled = computed(() => told.value?.regions.filter((g) => g.filled).length ?? 0)
const corners = computed(() => {
  const seen = [...new Set(told.value?.regions.filter((g) => g.filled).map((g) => g.corners))]
  return seen.sort((a, b) => a - b).join(', ')
})
/** The patches are seen, not the scan they lie in, unless places are picked on it. */
watch(
  [told, () => hand.slot],
  ([has, slot]) => {
    if (has) shown.show.scan = slot === 'turned' || slot === 'marks'
  },
  { immediate: true },
)
function take(slot: 'turned' | 'marks') {
  hand.slot = hand.slot === slot ? null : slot
  if (hand.slot !== 'marks') return
  m.by = 'zone'
  hand.select()
}
function back() {
  r.value.turned = r.value.turned.slice(0, -1)
  hand.tryIt(0)
}
</script>

<template>
  <GeneratedForm />
  <section class="section" aria-label="Regions">
    <h3>Regions</h3>
    <p v-if="told" class="mt-1.5">
      <span class="fig" data-figure="regions">{{ filled }} of {{ told.regions.length }}</span> filled, of
      {{ corners }} corners
    </p>
    <button
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'turned' }"
      @click="take('turned')"
    >
      <span class="w-[52px] text-soft">turned</span>
      <span :class="r.turned.length ? 'font-semibold' : 'text-soft'">{{
        r.turned.length ? `${r.turned.length} by a click` : 'click one to open or fill it'
      }}</span>
    </button>
    <button v-if="r.turned.length" class="mt-1 underline" @click="back">take the last back</button>
    <button
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'marks' }"
      @click="take('marks')"
    >
      <span class="w-[52px] text-soft">bridged</span>
      <span :class="r.marks.length ? 'font-semibold' : 'text-soft'">{{
        r.marks.length ? `${r.marks.length} marks` : 'mark what is not followed'
      }}</span>
    </button>
    <button v-if="hand.slot === 'marks' && r.marks.length" class="btn mt-1.5 w-full" @click="hand.tryIt(0)">
      Fit it again
    </button>
  </section>
</template>
