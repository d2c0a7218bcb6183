<script setup lang="ts">
import { computed } from 'vue'
import type { PickRecord, Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import Residuals from '../../bench/Residuals.vue'
import Rule from '../../bench/Rule.vue'
import { mm, whole } from '../../state/format'
import { useStep } from '../useStep'
import { RULE_OF, TITLE_OF } from './elements'

type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null }
const { hand, r, told: s } = useStep<Record, Schemas['DatumTold']>()
if (hand.held!.editing || r.value.pick) {
  if (r.value.pick) hand.showPick(r.value.scan, r.value.pick, r.value.element)
  hand.slot = 'place'
}
const KINDS: [Record['element'], string][] = [
  ['plane', 'Flat face'],
  ['cylinder', 'Bore or boss'],
]
function kind(e: Record['element']) {
  r.value.element = e
  if (!r.value.pick) return
  Object.assign(r.value.pick, { rule: RULE_OF[e], angle_deg: null })
  hand.showPick(r.value.scan, r.value.pick, e)
  hand.tryIt(0)
}
const direction = computed(() => {
  const u = s.value?.direction_uncertainty_deg ?? 0
  return u < 0.0005 ? '<0.001' : u.toFixed(3)
})
const title = computed(() => TITLE_OF[r.value.element])
const says = computed(() =>
  r.value.element === 'plane'
    ? 'Click a flat face once; it spreads as far as it faces the same way.'
    : 'Click inside a bore or on a boss once; it spreads as far as it bends the same.',
)
</script>

<template>
  <Head :title="title" :says="says" />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button
        v-for="[e, name] in KINDS"
        :key="e"
        class="btn flex-1"
        :class="{ 'btn-on': r.element === e }"
        :aria-pressed="r.element === e"
        @click="kind(e)"
      >
        {{ name }}
      </button>
    </div>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'place' }" @click="hand.slot = 'place'">
      <span class="w-[68px] text-soft">surface</span
      ><span v-if="r.pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span
        :class="r.pick ? 'font-semibold' : 'text-soft'"
        >{{ r.pick ? 'picked on scan' : 'click it in the view' }}</span
      >
    </button>
    <Rule v-if="r.pick" :pick="r.pick" :element="r.element" />
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Fitting' : 'What the scan says shows here once a surface is picked.' }}
    </p>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
        <template v-if="s.element === 'cylinder'"
          ><dt>diameter</dt>
          <dd class="fig" data-figure="diameter">{{ s.says }}</dd></template
        >
        <template v-else
          ><dt>place</dt>
          <dd class="fig">{{ s.says }}</dd></template
        >
        <dt>direction</dt>
        <dd class="fig">± {{ direction }}°</dd>
        <dt>scatter</dt>
        <dd class="fig">{{ mm(s.scatter) }} mm rms</dd>
        <dt>facets</dt>
        <dd class="fig" data-figure="facets">{{ whole(s.facets) }}</dd>
        <dt>area</dt>
        <dd class="fig">{{ Number(s.area.toPrecision(4)) }} mm²</dd>
      </dl>
      <Residuals :histogram="s.histogram" :scatter="s.scatter" />
    </template>
  </section>
</template>
