<script setup lang="ts">
/** Open rims by length: hover lights one, a click picks it; patches flat, tangent or following curvature. */
import { computed } from 'vue'
import type { RimView, Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { mm, whole } from '../../state/format'
import { useStep } from '../useStep'
import { useRims } from './useRims'

type Record = Schemas['HolesStep']
const { hand, shown, r, told: s } = useStep<Record, Schemas['ClosedTold']>()
const rims = useRims()
const picked = computed(() => rims.picked(r.value))
hand.slot = 'rims'
rims.load(r.value.scan).then(() => rims.rims?.length && hand.tryIt(0))
const changed = () => rims.changed(r.value)
function which(w: Record['which']) {
  r.value.which = w
  if (w === 'picked') r.value.places = []
  changed()
}
function shape(v: Record['shape']) {
  r.value.shape = v
  changed()
}
function look(x: RimView) {
  const mid = x.points.reduce((a, p) => a.map((v, k) => v + p[k] / x.points.length), [0, 0, 0])
  shown.lookAt(mid, x.size * 1.3)
}
const WHICH: [Record['which'], string][] = [
  ['all', 'all'],
  ['all but the longest', 'all but the longest'],
  ['shortest', 'the shortest'],
  ['picked', 'picked'],
]
const SHAPES: [Record['shape'], string][] = [
  ['flat', 'A soap film over the rim'],
  ['tangent', 'Leaves the rim in the direction of the surface'],
  ['curved', 'Follows the curvature, or the plane, cylinder, sphere or cone around'],
]
const laidOnto = computed(() =>
  Object.entries(s.value?.elements ?? {})
    .map(([k, n]) => `${n} ${k}${n === 1 ? '' : 's'}`)
    .join(', '),
)
</script>

<template>
  <Head
    title="Close holes"
    says="Each patch is as dense as the mesh around it. Rims are lit in the view; click one to pick it."
  />
  <section class="section">
    <h3>Give</h3>
    <div class="mt-1.5 flex flex-wrap items-center gap-1.5">
      <button
        v-for="[w, name] in WHICH"
        :key="w"
        class="btn !px-2 !py-1"
        :class="{ 'btn-on': r.which === w }"
        :aria-pressed="r.which === w"
        @click="which(w)"
      >
        {{ name }}
      </button>
      <label v-if="r.which === 'shortest'" class="flex items-center gap-1.5"
        ><input
          v-model.number="r.count"
          type="number"
          min="1"
          :max="rims.rims?.length ?? 1"
          class="field fig w-16 !py-0.5"
          aria-label="How many of the shortest"
          @change="changed"
        />
        of {{ rims.rims?.length }}</label
      >
    </div>
    <ul
      v-if="rims.rims?.length"
      class="mt-2 max-h-[168px] overflow-y-auto rounded-sm border border-rule bg-white"
      aria-label="Open rims"
    >
      <li
        v-for="(x, i) in rims.rims"
        :key="i"
        class="flex items-center gap-2 px-1.5 py-[3px]"
        :class="{ 'bg-held': rims.over === i }"
        @mouseenter="rims.listed = i"
        @mouseleave="rims.listed = -1"
      >
        <input
          type="checkbox"
          :checked="picked.has(i)"
          class="accent-ink"
          :aria-label="`Rim of ${mm(x.length, 1)} mm`"
          @change="rims.pick(i, r)"
        />
        <button class="fig flex flex-1 justify-between text-left" title="Look at it" @click="look(x)">
          <span>{{ mm(x.length, 1) }} mm</span
          ><span class="text-soft">{{ x.edges }} edges, {{ mm(x.size, 1) }} across</span>
        </button>
      </li>
    </ul>
    <p v-else-if="rims.rims" class="mt-2 text-moss">There is no open rim: nothing to close.</p>
    <div class="mt-2 flex gap-1.5">
      <button
        v-for="[v, says] in SHAPES"
        :key="v"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.shape === v }"
        :aria-pressed="r.shape === v"
        :title="says"
        @click="shape(v)"
      >
        {{ v }}
      </button>
    </div>
    <label class="mt-2 flex items-center gap-2"
      >rework the rim
      <input
        v-model.number="r.rework"
        type="number"
        min="0"
        step="0.2"
        class="field fig w-16 !py-0.5"
        aria-label="Rework the rim, mm"
        @change="changed"
      />
      mm <span class="text-soft">{{ r.rework > 0 ? '' : 'scan untouched' }}</span></label
    >
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !hand.previewing" class="mt-1.5 text-soft">
      {{ picked.size ? 'The patches show in saffron once worked out.' : 'Pick a rim to close.' }}
    </p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>closed</dt>
      <dd class="fig" data-figure="closed">{{ s.closed }}</dd>
      <dt>new triangles</dt>
      <dd class="fig">{{ whole(s.added) }}</dd>
      <dt>left open</dt>
      <dd class="fig" data-figure="left">{{ s.left }}</dd>
      <template v-if="laidOnto"
        ><dt>laid onto</dt>
        <dd>{{ laidOnto }}</dd></template
      >
    </dl>
  </section>
</template>
