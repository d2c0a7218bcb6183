<script setup lang="ts">
/** The bench of a sketch: its paper's place, what contradicts, what is picked, evidence, relations. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { said } from '../../paper/marks'
import { useSketch, type Refused } from '../../paper/sketch'
import { mm, signed } from '../../state/format'
import { useStep } from '../useStep'
import PaperGive from './PaperGive.vue'
import PickedOnPaper from './PickedOnPaper.vue'

type Record = Schemas['SketchStep']
type Held = Schemas['HeldTold']
const { hand, r, told } = useStep<Record, Schemas['SketchTold']>()
const s = useSketch()
const sum = computed(() => (r.value.strokes.length ? told.value : null))
function moved() {
  if (r.value.strokes.length) hand.tryIt()
}
const index = (x: Pick<Held, 'kind' | 'of'>) =>
  r.value.relations.findIndex((y) => y.kind === x.kind && y.of.join() === x.of.join())
const groups = computed(() => {
  const by: { [kind: string]: Held[] } = {}
  for (const x of sum.value?.relations ?? []) (by[x.kind] ??= []).push(x)
  return by
})
const cost = (list: Held[]) => Math.max(...list.map((x) => x.cost))
const worst = (list: Held[]) =>
  list.some((x) => x.verdict === 'says no')
    ? 'the scan says no'
    : list.some((x) => x.verdict === 'doubts it')
      ? 'the scan doubts it'
      : ''
const lines = computed(() =>
  (sum.value?.sizes ?? []).map((z, k) => ({
    ...z,
    k,
    chosen: z.chosen ?? 0,
    suggestions: hand.preview?.values[k]?.suggestions ?? [],
  })),
)
/** What contradicts, each with the way to let it go. */
const against = computed(() =>
  (sum.value?.contradiction ?? []).map(([what, k]) => {
    const x = what === 'relation' ? r.value.relations[k as number] : r.value.sizes[k as number]
    return {
      what,
      k: k as number,
      text: x ? `${said(x.kind)} ${x.of.join(' ')}` : '',
      chosen: x && 'chosen' in x ? x.chosen : null,
    }
  }),
)
const refusedText = (x: Refused) => `${said(x.kind)} ${x.of.join(' ')}`
</script>

<template>
  <Head title="Sketch" says="Draw over the trace: the tools lie on the paper." />
  <PaperGive :record="r" @moved="moved" />
  <section v-if="against.length" class="section" aria-label="Contradiction">
    <h3 class="!text-brick">These cannot hold together</h3>
    <p class="text-soft">Let one of them go. Until then the last is not held.</p>
    <div
      v-for="x in against"
      :key="x.what + x.k"
      class="flex items-baseline gap-2 border-b border-dotted border-rule py-1"
    >
      <span class="flex-1"
        >{{ x.text }} <span v-if="x.chosen !== null" class="fig">{{ x.chosen }}</span></span
      >
      <button
        class="btn !px-2 !py-0.5"
        :aria-label="`Let go: ${x.text}`"
        @click="x.what === 'relation' ? s.letGo(x.k) : s.letSizeGo(x.k)"
      >
        let go
      </button>
    </div>
  </section>
  <PickedOnPaper />
  <section v-if="!r.strokes.length" class="section">
    <p class="text-soft">Brush or click stretches of the trace with a tool of the paper, or</p>
    <button
      class="btn mt-1.5 w-full"
      :disabled="s.drawing || !s.trace?.traces.some((t) => t.length)"
      @click="s.drawAll()"
    >
      {{ s.drawing ? 'Drawing' : 'Draw the whole outline' }}
    </button>
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
      :label="z.label || said(z.kind)"
      :measured="z.measured"
      :uncertainty="z.uncertainty"
      :chosen="z.chosen"
      :source="z.source"
      :unit="z.unit"
      :cost="z.cost"
      :suggestions="z.suggestions"
      @choose="(v: number, w: string) => s.choose(z.k, v, w)"
    />
  </section>
  <section v-if="r.relations.length || s.refused.length" class="section" aria-label="Relations">
    <h3>Relations held</h3>
    <details v-for="(list, kind) in groups" :key="kind" class="border-b border-dotted border-rule py-1">
      <summary class="flex cursor-pointer justify-between gap-2">
        <span>{{ list.length }} {{ said(kind as string) }}</span
        ><span class="fig text-soft" :class="{ '!text-brick': worst(list) }"
          >{{ worst(list) }} {{ signed(cost(list)) }}</span
        >
      </summary>
      <div v-for="x in list" :key="x.of.join()" class="flex justify-between gap-2 py-0.5 pl-3">
        <span class="min-w-0 flex-1 truncate">
          {{ x.of.join(', ') }}<template v-if="x.by"> by {{ x.by }}</template
          ><span v-if="x.repeats" class="text-soft"> follows from others</span>
        </span>
        <button
          class="text-soft underline"
          :aria-label="`Take away ${said(x.kind)} ${x.of.join(' ')}`"
          @click="s.letGo(index(x))"
        >
          take away
        </button>
      </div>
    </details>
    <div
      v-for="x in s.refused.slice(0, 8)"
      :key="refusedText(x)"
      class="flex justify-between gap-2 py-1 text-brick"
    >
      <span>{{ refusedText(x) }}</span><button
        class="fig underline"
        :title="`Hold it all the same, at a cost of ${signed(x.cost)} mm rms`"
        @click="s.hold(x)"
      >
        {{ signed(x.cost) }}, hold
      </button>
    </div>
    <p v-for="x in s.unsaid" :key="x" class="note mt-1.5">{{ x }}</p>
  </section>
  <section class="section">
    <label class="btn w-full cursor-pointer">
      Bring in a DXF
      <input
        type="file"
        accept=".dxf"
        class="sr-only"
        @change="
          (e) => {
            const f = (e.target as HTMLInputElement).files?.[0]
            if (f) s.bring(f)
          }
        "
      />
    </label>
  </section>
</template>
