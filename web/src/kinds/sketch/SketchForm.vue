<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { useSketch, type Refused } from '../../paper/sketch'
import { mm, signed } from '../../state/format'
import { useStep } from '../useStep'

type Record = Schemas['SketchStep']
type Relation = Record['relations'][number]
const { hand, r, told } = useStep<Record, Schemas['SketchTold']>()
const s = useSketch()
const sum = computed(() => (r.value.strokes.length ? told.value : null))
s.tool = null
s.refused = []
const TOOLS = ['line', 'arc', 'circle'] as const
const AXES: Record['axis'][] = ['x', 'y', 'z']
function moved() {
  if (r.value.strokes.length) hand.tryIt()
}
function turn(a: Record['axis']) {
  r.value.axis = a
  r.value.height = 0
  moved()
}
const said = (x: Pick<Relation, 'kind' | 'of'>) => `${x.kind} ${x.of.join(' ')}`
const groups = computed(() => {
  const by: { [kind: string]: (Relation & { i: number })[] } = {}
  r.value.relations.forEach((x, i) => (by[x.kind] ??= []).push({ ...x, i }))
  return by
})
const cost = (list: Relation[]) => Math.max(...list.map((x) => s.costs[x.kind + x.of.join()] ?? 0))
function removeRelation(i: number) {
  r.value.relations.splice(i, 1)
  hand.tryIt(0)
}
function addRelation(x: Refused) {
  r.value.relations.push({ kind: x.kind, of: x.of })
  s.refused = s.refused.filter((y) => y !== x)
  hand.tryIt(0)
}
function choose(k: number, value: number, source: string) {
  Object.assign(r.value.sizes[k], { chosen: value, source })
  hand.tryIt(0)
}
const lines = computed(() =>
  (sum.value?.sizes ?? []).map((z, k) => ({
    ...z,
    k,
    chosen: z.chosen ?? 0,
    suggestions: hand.preview?.values[k]?.suggestions ?? [],
  })),
)
</script>

<template>
  <Head title="Sketch" says="Drag the plane through the scan, then draw over its trace." />
  <section class="section">
    <h3>Cut</h3>
    <div class="mt-1.5 flex items-center gap-2">
      <span class="text-soft">square to</span>
      <button
        v-for="a in AXES"
        :key="a"
        class="btn !px-2.5 !py-1"
        :class="{ 'btn-on': r.axis === a }"
        :aria-pressed="r.axis === a"
        @click="turn(a)"
      >
        {{ a }}
      </button>
      <input
        v-model.number="r.height"
        type="number"
        step="0.1"
        class="field fig ml-auto w-[84px]"
        aria-label="Height of the plane, mm"
        @change="moved"
      />
    </div>
    <input
      v-model.number="r.height"
      type="range"
      class="mt-2 w-full accent-[#E79A12]"
      :min="s.trace ? Math.floor(s.trace.low) : -100"
      :max="s.trace ? Math.ceil(s.trace.high) : 100"
      step="0.05"
      aria-label="Drag the plane"
      @change="moved"
    />
  </section>
  <section class="section">
    <h3>Draw</h3>
    <div class="mt-1.5 grid grid-cols-3 gap-1.5">
      <button
        v-for="t in TOOLS"
        :key="t"
        class="btn capitalize"
        :class="{ 'slot-on': s.tool === t }"
        :aria-pressed="s.tool === t"
        :title="`Brush along the trace to fit a ${t}`"
        @click="s.tool = s.tool === t ? null : t"
      >
        {{ t }}
      </button>
    </div>
    <button class="btn mt-1.5 w-full" :disabled="s.drawing || !s.trace?.loops.length" @click="s.drawAll()">
      {{ s.drawing ? 'Drawing' : 'Draw the whole outline' }}
    </button>
    <p v-if="s.tool" class="mt-1.5 text-soft">
      Brush along a stretch of the trace on the paper. Shift drag pans.
    </p>
  </section>
  <section v-if="sum" class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p class="mt-1 text-soft">
      rms <span class="fig" data-figure="rms">{{ mm(sum.rms) }}</span> against the trace, which scatters by
      <span class="fig">{{ mm(sum.noise) }}</span>
    </p>
    <Chip
      v-for="z in lines"
      :key="z.id"
      :label="z.label || z.kind"
      :measured="z.measured"
      :uncertainty="z.uncertainty"
      :chosen="z.chosen"
      :source="z.source"
      unit="mm"
      :cost="z.cost"
      :suggestions="z.suggestions"
      @choose="(v: number, w: string) => choose(z.k, v, w)"
    />
  </section>
  <section v-if="r.relations.length || s.refused.length" class="section" aria-label="Relations">
    <h3>Relations the trace supports</h3>
    <details v-for="(list, kind) in groups" :key="kind" class="border-b border-dotted border-rule py-1">
      <summary class="flex cursor-pointer justify-between">
        <span>{{ list.length }} {{ kind }}</span
        ><span class="fig text-soft">{{ signed(cost(list)) }}</span>
      </summary>
      <div v-for="x in list" :key="x.i" class="flex justify-between py-0.5 pl-3">
        <span>{{ x.of.join(', ') }}</span><button
          class="text-soft underline"
          :aria-label="`Take away ${said(x)}`"
          @click="removeRelation(x.i)"
        >
          take away
        </button>
      </div>
    </details>
    <div v-for="x in s.refused" :key="said(x)" class="flex justify-between gap-2 py-1 text-brick">
      <span>{{ said(x) }}</span><button
        class="fig underline"
        :title="`Hold it all the same, at a cost of ${signed(x.cost)} mm rms`"
        @click="addRelation(x)"
      >
        {{ signed(x.cost) }}, hold
      </button>
    </div>
  </section>
</template>
