<script setup lang="ts">
/** What a datum is held to, and what that costs. */
import { computed, ref } from 'vue'
import type { DatumLine, Schemas } from '../../api/types'
import { mm, typed } from '../../state/format'
import { useStep } from '../useStep'
import { holdTo, isHeld, WAYS, wayOf, type Way } from './held'

const { job: j, hand, r, told: s } = useStep<Schemas['DatumStep'], Schemas['DatumTold']>()
const way = ref<Way | ''>(wayOf(r.value) ?? '')
const all = computed(() => j.before(r.value.id, 'datum'))
const having = (...roles: string[]) =>
  all.value.filter((d) => roles.some((x) => ((d.told as unknown as DatumLine).roles ?? []).includes(x)))
const directed = computed(() => having(...(way.value === 'about' ? ['axis'] : ['axis', 'plane'])))
const middles = computed(() => having('middle'))
const to = computed(() => (way.value ? r.value[way.value] : null))

function choose(e: Event) {
  const held = to.value
  way.value = (e.target as HTMLSelectElement).value as Way | ''
  const id = directed.value.some((d) => d.id === held) ? held! : null
  holdTo(r.value, way.value || null, id)
  if (held || id) hand.tryIt(0)
}
function hold(e: Event) {
  holdTo(r.value, way.value || null, (e.target as HTMLSelectElement).value || null)
  hand.tryIt(0)
}
function set<K extends 'angle_deg' | 'radius'>(key: K, e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  if (key === 'radius') r.value.radius = v !== null && v > 0 ? v : null
  else if (v !== null) r.value.angle_deg = Math.min(90, Math.max(0, v))
  hand.tryIt(0)
}
function through(e: Event) {
  r.value.through = (e.target as HTMLSelectElement).value || null
  hand.tryIt(0)
}
function flip() {
  r.value.flip = !r.value.flip
  hand.tryIt(0)
}
const kind = computed(() => s.value?.element ?? '')
const sized = computed(() => ['cylinder', 'sphere', 'torus'].includes(kind.value))
const ways = computed(() =>
  WAYS.filter(([k]) =>
    kind.value === 'sphere' ? k === 'about' : kind.value === 'plane' ? k !== 'about' : true,
  ),
)
</script>

<template>
  <section class="section">
    <details :open="isHeld(r)">
      <summary class="cursor-pointer">
        <h3 class="inline">Hold it</h3>
        <span v-if="s?.free_scatter" class="fig float-right text-soft" data-figure="held costs"
          >scatter {{ mm(s.scatter) }}, free {{ mm(s.free_scatter) }}</span
        >
      </summary>
      <div class="slot mt-1.5">
        <select class="w-[112px] bg-transparent" aria-label="held" :value="way" @change="choose">
          <option value="">free</option>
          <option v-for="[k, words] in ways" :key="k" :value="k">{{ words }}</option>
        </select>
        <select
          v-if="way"
          class="min-w-0 flex-1 bg-transparent font-semibold"
          aria-label="held to"
          :value="to ?? ''"
          @change="hold"
        >
          <option value="">choose</option>
          <option v-for="d in directed" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
        <template v-if="way === 'angle_to'">
          <input
            v-typing
            type="number"
            class="field fig w-16"
            aria-label="angle, degrees"
            min="0"
            max="90"
            step="any"
            :value="r.angle_deg"
            @change="set('angle_deg', $event)"
          />
          <span class="text-soft">°</span>
        </template>
      </div>
      <label v-if="middles.length" class="slot mt-1.5">
        <span class="w-[112px] pl-1">{{ kind === 'sphere' ? 'middle at' : 'through' }}</span>
        <select
          class="min-w-0 flex-1 bg-transparent font-semibold"
          aria-label="through"
          :value="r.through ?? ''"
          @change="through"
        >
          <option value="">free</option>
          <option v-for="d in middles" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
      </label>
      <div class="mt-1.5 flex items-center gap-4">
        <label v-if="sized" class="flex items-center gap-2"
          >radius
          <input
            v-typing
            type="number"
            class="field fig w-20"
            min="0"
            step="any"
            :value="r.radius"
            @change="set('radius', $event)"
          />
          <span class="text-soft">{{ r.radius ? 'mm' : 'as read' }}</span></label
        >
        <label v-if="kind !== 'sphere' && kind !== 'cone'" class="flex items-center gap-2">
          <input type="checkbox" class="accent-ink" :checked="r.flip" @change="flip" /> turned round
        </label>
      </div>
    </details>
  </section>
</template>
