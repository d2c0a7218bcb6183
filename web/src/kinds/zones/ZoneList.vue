<script setup lang="ts">
/** The surfaces of a scan, largest first, and what holds between them. */
import { computed } from 'vue'
import { mm } from '../../state/format'
import { look, looked, type ZonesTold } from './shown'

const props = defineProps<{ told: ZonesTold }>()
const MOST = 80
const listed = computed(() => props.told.zones.slice(0, MOST))
const chosen = computed(() => (looked.zone === null ? null : (props.told.zones[looked.zone] ?? null)))
const name = (i: number) => props.told.zones[i]?.name ?? ''
/** How the chosen one meets the others, or what holds most exactly between any. */
const beside = computed(() =>
  props.told.meetings
    .filter((m) => m.a === looked.zone || m.b === looked.zone)
    .map((m) => ({ other: m.a === looked.zone ? m.b : m.a, how: m.how, angle: m.angle_deg })),
)
const OF_EACH = 3
const holds = computed(() => {
  const mine = props.told.relations.filter(
    (r) => looked.zone === null || r.a === looked.zone || r.b === looked.zone,
  )
  // The best of each sort: a part has more parallel faces than anybody wants to read of.
  return mine.filter((r) => mine.filter((x) => x.what === r.what).indexOf(r) < OF_EACH)
})
const off = (r: ZonesTold['relations'][number]) =>
  r.what === 'parallel' || r.what === 'square' ? `${r.misfit.toFixed(3)}°` : `${r.misfit.toFixed(3)} mm`
const area = (v: number) => `${Number(v.toPrecision(3))} mm²`
</script>

<template>
  <section v-if="chosen" class="section" aria-label="Surface">
    <h3>{{ chosen.name }}</h3>
    <dl class="mt-1.5 grid grid-cols-[92px_1fr] gap-y-1">
      <dt>area</dt>
      <dd class="fig">{{ area(chosen.area) }}</dd>
      <template v-if="chosen.kind !== 'freeform'">
        <dt>scatter</dt>
        <dd class="fig" data-figure="scatter">{{ mm(chosen.scatter) }} mm rms</dd>
      </template>
      <template v-for="b in beside" :key="b.other">
        <dt class="text-soft">{{ b.how === 'tangent' ? 'runs into' : 'meets' }}</dt>
        <dd class="truncate">
          {{ name(b.other) }}
          <span class="fig text-soft">{{ b.how === 'sharp' ? `${b.angle.toFixed(1)}°` : '' }}</span>
        </dd>
      </template>
    </dl>
    <slot />
  </section>
  <section class="section" aria-label="Surfaces">
    <h3>Surfaces</h3>
    <ul class="mt-1.5 max-h-[260px] overflow-y-auto">
      <li v-for="(z, i) in listed" :key="i">
        <button
          class="flex w-full items-baseline gap-2 rounded-sm px-1.5 py-[3px] text-left hover:bg-linen"
          :class="{ 'bg-linen font-semibold': looked.zone === i }"
          :aria-pressed="looked.zone === i"
          @click="look(looked.zone === i ? null : i, z.place as [number, number, number])"
        >
          <span class="min-w-0 flex-1 truncate">{{ z.name }}</span>
          <span class="fig whitespace-nowrap text-soft">{{ area(z.area) }}</span>
        </button>
      </li>
    </ul>
  </section>
  <section v-if="holds.length" class="section" aria-label="What holds">
    <h3>What holds between them</h3>
    <p v-for="r in holds" :key="`${r.what} ${r.a} ${r.b}`" class="mt-1 flex justify-between gap-2">
      <span class="min-w-0 truncate"
        ><span class="text-soft">{{ r.what }}</span> {{ name(r.a) }}, {{ name(r.b) }}</span
      >
      <span class="fig whitespace-nowrap">{{ off(r) }}</span>
    </p>
  </section>
</template>
