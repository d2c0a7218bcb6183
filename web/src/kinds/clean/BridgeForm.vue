<script setup lang="ts">
/** Part of a rim closed along a drag, or a strip dragged across a gap. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { whole } from '../../state/format'
import { useStep } from '../useStep'
import { useRims } from './useRims'

type Record = Schemas['BridgeStep']
const { hand, r, told: s } = useStep<Record, Schemas['ClosedTold']>()
const rims = useRims()
hand.slot = 'rims'
rims.load(r.value.scan)
const ready = computed(() => r.value.places.length >= (r.value.way === 'stretch' ? 3 : 2))
function way(w: Record['way']) {
  Object.assign(r.value, { way: w, places: [] })
  hand.preview = null
}
const again = () => ready.value && hand.again()
function shape(v: Record['shape']) {
  r.value.shape = v
  again()
}
const WAYS: [Record['way'], string][] = [
  ['stretch', 'Stretch of a rim'],
  ['strip', 'Strip'],
]
const asked = computed(() =>
  r.value.way === 'stretch' ? 'drag along it in the view' : 'drag from rim to rim',
)
</script>

<template>
  <Head title="Bridge a gap" says="Make a hole smaller or part it in two before closing what is left." />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button
        v-for="[w, name] in WAYS"
        :key="w"
        class="btn flex-1"
        :class="{ 'btn-on': r.way === w }"
        :aria-pressed="r.way === w"
        @click="way(w)"
      >
        {{ name }}
      </button>
    </div>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'rims' }" @click="hand.slot = 'rims'">
      <span class="w-[68px] text-soft">{{ r.way === 'stretch' ? 'stretch' : 'strip' }}</span><span
        :class="ready ? 'font-semibold' : 'text-soft'"
        >{{ ready ? 'dragged' : asked }}</span
      >
    </button>
    <label v-if="r.way === 'strip'" class="mt-2 flex items-center gap-2"
      >width
      <input
        v-model.number="r.width"
        type="number"
        min="0.001"
        step="any"
        class="field fig w-20 !py-0.5"
        @change="again"
      />
      mm</label
    >
    <div class="mt-2 flex gap-1.5">
      <button
        v-for="v in ['flat', 'tangent', 'curved'] as const"
        :key="v"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.shape === v }"
        :aria-pressed="r.shape === v"
        @click="shape(v)"
      >
        {{ v }}
      </button>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !hand.previewing" class="mt-1.5 text-soft">
      What closes lights up while you drag; rims are drawn in the view.
    </p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>new triangles</dt>
      <dd class="fig" data-figure="added">{{ whole(s.added) }}</dd>
      <dt>rims left</dt>
      <dd class="fig" data-figure="left">{{ s.left }}</dd>
    </dl>
  </section>
</template>
