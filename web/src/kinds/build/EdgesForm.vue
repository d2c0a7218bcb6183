<script setup lang="ts">
/** Edges of a body, and the number they get, read from the scan: a radius, or a leg or two. */
import { computed, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { whole } from '../../state/format'
import { useRoom } from '../../state/room'
import { across } from '../../view3d/plan'
import { useStep } from '../useStep'

type Record = (Schemas['FilletStep'] | Schemas['ChamferStep']) & { alike?: boolean }
const { hand, r, told: s } = useStep<Record, Schemas['EdgesTold'] & Partial<Schemas['ChamferTold']>>()
const room = useRoom()
hand.slot = 'edges'
const alike = computed({
  get: () => r.value.alike !== false,
  set: (v: boolean) => (r.value.alike = v ? undefined : false),
})
watch(
  () => JSON.stringify(r.value.edges),
  () => (r.value.edges.length ? hand.tryIt(0) : (hand.preview = null)),
  { immediate: true },
)
/** How many edges lie between which two features. */
const pairs = computed(() => {
  const family = (f: string) => f.replace(/\/side\/.*/, ' wall').replace('/', ' ')
  const out: { [pair: string]: number } = {}
  for (const e of r.value.edges) {
    const k = [family(e[0]), family(e[1])].sort().join(' to ')
    out[k] = (out[k] ?? 0) + 1
  }
  return out
})
const fieldOf = (v: { label: string }) => (v.label === 'other leg' ? 'other' : 'leg')
function choose(field: 'leg' | 'other', value: number, source: string) {
  const chosen = { value, source: source as Schemas['Chosen']['source'] }
  const now = r.value
  if (!('leg' in now)) now.radius = chosen
  else {
    // Of two legs that were read, the one that is not chosen stays what it was.
    for (const v of values.value)
      now[fieldOf(v)] = { value: v.chosen, source: v.source as Schemas['Chosen']['source'] }
    now[field] = chosen
  }
  hand.tryIt(0)
}
/** The face that the first of two legs lies on, as people read it. */
const on = computed(() => s.value?.on?.replaceAll('/', ' ') ?? '')
/** Two legs on edges that have one face in common, typed where the scan shows one. */
function twoLegs() {
  const leg = values.value.find((v) => fieldOf(v) === 'leg')?.chosen
  if (leg) choose('other', Number((2 * leg).toPrecision(2)), 'typed')
}
const sign = computed(() => ('leg' in r.value ? '' : 'R '))
const head = computed(() => ({
  title: String(hand.kind!.title),
  says: String(hand.kind!.says),
}))
const read = computed(() => Object.values(s.value?.readings ?? {})[0])
/** Numbers to begin with where the scan says none. */
const likely = computed(() => [1, 2, 3].map((n) => Number((n * 10 ** decade.value).toPrecision(1))))
const decade = computed(() => Math.round(Math.log10(across(room.job.scan) / 100)))
/** Edges that the scan shows sharp: they are no part of what was made. */
const sharp = computed(() => s.value?.sharp ?? [])
function leaveOut() {
  const names = new Set(sharp.value.map((e) => e.join()))
  alike.value = false
  r.value.edges = r.value.edges.filter((e) => !names.has(e.join()))
}
const values = computed(() => hand.preview?.values ?? [])
</script>

<template>
  <Head :title="head.title" :says="head.says" />
  <section class="section">
    <h3>Give</h3>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'edges' }" @click="hand.slot = 'edges'">
      <span class="w-[60px] text-soft">edges</span
      ><span :class="r.edges.length ? 'font-semibold' : 'text-soft'">{{
        r.edges.length ? `${r.edges.length} picked` : 'click them on the model'
      }}</span>
    </button>
    <p v-for="(n, k) in pairs" :key="k" class="pl-2 text-soft">{{ n }} of {{ k }}</p>
    <label class="mt-1.5 flex items-center gap-2"
      ><input v-model="alike" type="checkbox" class="accent-inkblue" /> with all between the same two
      features</label
    >
    <button v-if="r.edges.length" class="mt-1 underline" @click="r.edges = []">clear</button>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!values.length" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Working it out' : 'The number shows here once an edge is picked.' }}
    </p>
    <Chip
      v-for="v in values"
      :key="v.name"
      v-bind="v"
      @choose="(value: number, source: string) => choose(fieldOf(v), value, source)"
    />
    <p v-if="on" class="mt-1 text-soft" data-figure="on">The leg lies on {{ on }}, the other across.</p>
    <button v-else-if="'leg' in r && values.length" class="mt-1 underline" @click="twoLegs">
      another leg across
    </button>
    <p v-if="read" class="text-[11.5px] text-soft">
      {{ whole(read.count) }} points on the {{ 'leg' in r ? 'chamfer' : 'rounding' }}, scatter
      {{ read.scatter.toFixed(3) }} mm
    </p>
    <button v-if="sharp.length && sharp.length < r.edges.length" class="btn mt-2 w-full" @click="leaveOut">
      Leave out {{ sharp.length === 1 ? 'the sharp one' : `the ${sharp.length} sharp ones` }}
    </button>
    <div v-if="hand.error && r.edges.length" class="mt-2 flex gap-1.5">
      <button v-for="v in likely" :key="v" class="btn flex-1" @click="choose('leg', v, 'typed')">
        {{ sign }}{{ v }}
      </button>
    </div>
  </section>
</template>
