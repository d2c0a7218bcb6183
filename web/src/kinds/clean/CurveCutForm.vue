<script setup lang="ts">
/** A smooth curve drawn on the mesh; triangles are split along it and one side kept. */
import { computed, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { mm, whole } from '../../state/format'
import { useStep } from '../useStep'

const { hand, r, told: s } = useStep<Schemas['CurveCutStep'], Schemas['CurveCutTold']>()
hand.slot ??= 'curve'
const least = computed(() => (r.value.closed ? 3 : 2))
const enough = () => r.value.places.length >= least.value
watch(
  () => r.value.closed,
  () => enough() && hand.tryIt(0),
)
function back() {
  r.value.places.pop()
  if (enough()) return hand.tryIt(0)
  hand.preview = null
  hand.error = ''
}
function keepBoth() {
  r.value.keep = null
  hand.tryIt(0)
}
const more = computed(() => least.value - r.value.places.length)
</script>

<template>
  <Head
    title="Cut along a curve"
    says="The cut runs exactly on the curve, so that the new rim is smooth and fills well."
  />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button
        class="btn flex-1"
        :class="{ 'btn-on': r.closed }"
        :aria-pressed="r.closed"
        @click="r.closed = true"
      >
        Closed
      </button>
      <button
        class="btn flex-1"
        :class="{ 'btn-on': !r.closed }"
        :aria-pressed="!r.closed"
        @click="r.closed = false"
      >
        Open, rim to rim
      </button>
    </div>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'curve' }" @click="hand.slot = 'curve'">
      <span class="w-[68px] text-soft">curve</span
      ><span :class="r.places.length ? 'font-semibold' : 'text-soft'">{{
        r.places.length ? `${r.places.length} places` : 'click places on the mesh'
      }}</span>
    </button>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'keep' }" @click="hand.slot = 'keep'">
      <span class="w-[68px] text-soft">stays</span
      ><span :class="r.keep ? 'font-semibold' : 'text-soft'">{{
        r.keep ? 'the side clicked' : 'both sides; click one to keep it'
      }}</span>
    </button>
    <div class="mt-1.5 flex gap-1.5">
      <button class="btn flex-1" :disabled="!r.places.length" @click="back">Last place back</button
      ><button class="btn flex-1" :disabled="!r.keep" @click="keepBoth">Keep both sides</button>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !hand.previewing" class="mt-1.5 text-soft">
      {{
        more > 0
          ? `${more} more ${more === 1 ? 'place' : 'places'} make a curve.`
          : 'What the cut gives shows here.'
      }}
    </p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>curve's length</dt>
      <dd class="fig">{{ mm(s.length, 2) }} mm</dd>
      <dt>triangles cut</dt>
      <dd class="fig" data-figure="cut">{{ whole(s.cut) }}</dd>
      <dt>goes</dt>
      <dd class="fig">{{ whole(s.goes) }}</dd>
      <dt>stays</dt>
      <dd class="fig">{{ whole(s.triangles) }}</dd>
    </dl>
  </section>
</template>
