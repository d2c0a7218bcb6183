<script setup lang="ts">
import { computed } from 'vue'
import type { DatumLine, Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import Residuals from '../../bench/Residuals.vue'
import { mm, whole } from '../../state/format'
import { useStep } from '../useStep'
import { OUTLINE_OF } from './elements'

type Record = Schemas['OutlineStep']
const { job: j, hand, r, told: s } = useStep<Record, Schemas['OutlineTold']>()
const kind = computed(() => hand.kind!)
const words = (t: string | ((r: never) => string)) => (typeof t === 'string' ? t : t(r.value as never))
const datums = computed(() => j.before(r.value.id, 'datum'))
const having = (role: string) =>
  datums.value.filter((d) => ((d.told as unknown as DatumLine).roles ?? []).includes(role))
function set(key: 'on' | 'along' | 'shape', v: string) {
  Object.assign(r.value, { [key]: v || null })
  if (r.value.pick) hand.tryIt(0)
}
const off = (v: number) => Math.max(2 * v, 0.001).toFixed(3)
const sizes = computed(() => (hand.preview?.values ?? []).filter((v) => v.measured !== null))
</script>

<template>
  <Head :title="words(kind.title)" :says="words(kind.says)" />
  <section class="section">
    <h3>Give</h3>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'pick' }" @click="hand.slot = 'pick'">
      <span class="w-[88px] text-soft">wall</span
      ><span v-if="r.pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span
        :class="r.pick ? 'font-semibold' : 'text-soft'"
        >{{ r.pick ? 'picked on scan' : 'click it in the view' }}</span
      >
    </button>
    <label class="slot mt-1.5">
      <span class="w-[88px] text-soft">on plane</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        aria-label="on plane"
        :value="r.on ?? ''"
        @change="set('on', ($event.target as HTMLSelectElement).value)"
      >
        <option value="">found from the wall</option>
        <option v-for="d in having('plane')" :key="d.id" :value="d.id">{{ d.name }}</option>
      </select>
    </label>
    <label v-if="datums.length" class="slot mt-1.5">
      <span class="w-[88px] text-soft">long axis along</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        aria-label="long axis along"
        :value="r.along ?? ''"
        @change="set('along', ($event.target as HTMLSelectElement).value)"
      >
        <option value="">as read</option>
        <option v-for="d in [...having('axis'), ...having('plane')]" :key="d.id" :value="d.id">
          {{ d.name }}
        </option>
      </select>
    </label>
  </section>
  <section v-if="s" class="section" aria-label="It could be">
    <h3>It could be</h3>
    <ul class="mt-1.5 space-y-1">
      <li v-for="k in s.could_be" :key="k.element">
        <button
          class="offer !py-1"
          :class="{ 'offer-first': k.element === s.element }"
          :aria-pressed="k.element === s.element"
          @click="set('shape', k.element)"
        >
          <span class="flex items-baseline justify-between gap-2">
            <b class="font-semibold">{{ OUTLINE_OF[k.element] }}</b>
            <span class="fig whitespace-nowrap">{{ k.size }}</span>
          </span>
          <span class="fig block text-soft">scatter {{ mm(k.scatter) }}</span>
        </button>
      </li>
    </ul>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Fitting' : 'What the scan says shows here once a wall is picked.' }}
    </p>
    <template v-else>
      <dl class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
        <template v-for="v in sizes" :key="v.name">
          <dt>{{ v.name.split('.').at(-1) }}</dt>
          <dd class="fig" :data-figure="v.name.split('.').at(-1)">
            {{ v.measured!.toFixed(3) }} ± {{ off(v.uncertainty ?? 0) }}
          </dd>
        </template>
        <dt>middle</dt>
        <dd class="fig">± {{ off(s.place_uncertainty) }} mm</dd>
        <template v-if="s.direction_uncertainty_deg !== null">
          <dt>long axis</dt>
          <dd class="fig">± {{ off(s.direction_uncertainty_deg) }}°</dd>
        </template>
        <dt>scatter</dt>
        <dd class="fig" data-figure="scatter">{{ mm(s.scatter) }} mm rms</dd>
        <dt>places</dt>
        <dd class="fig">{{ whole(s.points) }}{{ s.set_aside ? `, ${whole(s.set_aside)} set aside` : '' }}</dd>
      </dl>
      <p v-if="Math.abs(s.lean_deg) > 0.4" class="mt-1" data-figure="lean">
        The wall leans by {{ Math.abs(s.lean_deg).toFixed(1) }}°: read where it was clicked.
      </p>
      <Residuals :histogram="s.histogram" :scatter="s.scatter" />
    </template>
  </section>
</template>
