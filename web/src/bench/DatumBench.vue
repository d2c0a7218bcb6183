<script setup lang="ts">
import { computed } from 'vue'
import { mm } from '../state/format'
import { useJob } from '../state/job'
import Head from './Head.vue'
import Residuals from './Residuals.vue'
import Rule from './Rule.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
if (j.hand!.editing && r.value.pick) {
  j.showPick(r.value.scan, r.value.pick, r.value.element)
  j.tryIt(0)
  j.slot = 'place'
}
function kind(e: string) {
  r.value.element = e
  if (r.value.pick) {
    Object.assign(r.value.pick, { rule: e === 'cylinder' ? 'same bend' : 'same facing', angle_deg: null })
    j.showPick(r.value.scan, r.value.pick, e)
    j.tryIt(0)
  }
}
</script>

<template>
  <Head :title="r.element === 'plane' ? 'Plane datum' : 'Axis datum'" :says="r.element === 'plane' ? 'Click a flat face once; it spreads as far as it faces the same way.' : 'Click inside a bore or on a boss once; it spreads as far as it bends the same.'" />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex gap-1.5">
      <button class="btn flex-1" :class="{ 'btn-on': r.element === 'plane' }" :aria-pressed="r.element === 'plane'" @click="kind('plane')">Flat face</button>
      <button class="btn flex-1" :class="{ 'btn-on': r.element === 'cylinder' }" :aria-pressed="r.element === 'cylinder'" @click="kind('cylinder')">Bore or boss</button>
    </div>
    <button class="slot mt-1.5" :class="{ 'slot-on': j.slot === 'place' }" @click="j.slot = 'place'">
      <span class="w-[68px] text-soft">surface</span><span v-if="r.pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span :class="r.pick ? 'font-semibold' : 'text-soft'">{{ r.pick ? 'picked on scan' : 'click it in the view' }}</span>
    </button>
    <Rule v-if="r.pick" :pick="r.pick" :element="r.element" />
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">{{ j.previewing ? 'Fitting' : 'What the scan says shows here once a surface is picked.' }}</p>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
        <template v-if="s.element === 'cylinder'"><dt>diameter</dt><dd class="fig" data-figure="diameter">{{ s.says }}</dd></template>
        <template v-else><dt>place</dt><dd class="fig">{{ s.says }}</dd></template>
        <dt>direction</dt><dd class="fig">± {{ s.direction_uncertainty_deg < 0.0005 ? '<0.001' : s.direction_uncertainty_deg.toFixed(3) }}°</dd>
        <dt>scatter</dt><dd class="fig">{{ mm(s.scatter) }} mm rms</dd>
        <dt>facets</dt><dd class="fig" data-figure="facets">{{ s.facets.toLocaleString('en') }}</dd>
        <dt>area</dt><dd class="fig">{{ s.area.toFixed(0) }} mm²</dd>
      </dl>
      <Residuals :histogram="s.histogram" :scatter="s.scatter" />
    </template>
  </section>
</template>
