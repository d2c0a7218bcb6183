<script setup lang="ts">
import { computed, onUnmounted } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { signed } from '../../state/format'
import { scanLine } from '../../state/job'
import { useStep } from '../useStep'
import { isTurn, still, trial } from './trial'
import { zeroMoves } from './zero'
import { SLOTS } from './order'

type Record = Schemas['FrameStep']
type AxisKey = 'first_axis' | 'second_axis'
const { job: j, hand, r, told: s } = useStep<Record, Schemas['FrameTold']>()
const datums = computed(() => j.before(r.value.id, 'datum'))
function set(k: keyof Record, v: unknown) {
  Object.assign(r.value, { [k]: v || null })
  hand.tryIt(0)
}
function flip(k: 'flip_first' | 'flip_second') {
  r.value[k] = !r.value[k]
  hand.tryIt(0)
}
function axis(k: AxisKey, v: string) {
  const other: AxisKey = k === 'first_axis' ? 'second_axis' : 'first_axis'
  if (r.value[other] === v) r.value[other] = r.value[k]
  r.value[k] = v as Record['first_axis']
  hand.tryIt(0)
}
/** First and second change places, each with its own axis. */
function swap() {
  const v = r.value
  Object.assign(v, {
    first: v.second,
    second: v.first,
    first_axis: v.second_axis,
    second_axis: v.first_axis,
    flip_first: v.flip_second,
    flip_second: v.flip_first,
  })
  hand.tryIt(0)
}
/** How far a freedom can be dragged: half a turn, or the part's own size. */
const size = computed(() => {
  const b = hand.scan ? scanLine(hand.scan).bounds : j.scan ? scanLine(j.scan).bounds : null
  return b ? Math.hypot(...[0, 1, 2].map((k) => b[1][k] - b[0][k])) : 100
})
const reach = (freedom: string) => (isTurn(freedom) ? 180 : Number(size.value.toPrecision(2)))
still()
onUnmounted(still)
const named = (what: string) => j.byId.get(String(r.value[what as keyof Record]))?.name ?? what
const zeroMove = computed(() => zeroMoves(s.value?.orders ?? []))
const turned = ['first', 'second'] as const
const isTurned = (k: string): k is 'first' | 'second' => (turned as readonly string[]).includes(k)
</script>

<template>
  <Head title="Frame" says="The part's own axes, from datums in order of trust." />
  <section class="section">
    <h3>Give</h3>
    <div v-for="[k, says] in SLOTS" :key="k" class="slot mt-1.5" :class="{ 'slot-on': hand.slot === k }">
      <label class="flex min-w-0 flex-1 items-center gap-2" :title="says"
        ><span class="w-[46px] text-soft">{{ k }}</span>
        <select
          class="field min-w-0 flex-1 !border-0 !px-0 font-semibold"
          :value="r[k] ?? ''"
          @focus="hand.slot = k"
          @change="set(k, ($event.target as HTMLSelectElement).value)"
        >
          <option v-if="k !== 'first'" value="">none</option>
          <option v-for="d in datums" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
      </label>
      <template v-if="isTurned(k)">
        <select
          class="field fig !px-1"
          :aria-label="`axis of the ${k} datum`"
          :value="r[`${k}_axis`]"
          @change="axis(`${k}_axis`, ($event.target as HTMLSelectElement).value)"
        >
          <option v-for="a in ['x', 'y', 'z']" :key="a">{{ a }}</option>
        </select>
        <button
          class="btn !px-1.5 !py-0.5"
          :class="{ 'btn-on': r[`flip_${k}`] }"
          :aria-pressed="r[`flip_${k}`]"
          :title="`Turn the ${k} axis round`"
          @click="flip(`flip_${k}`)"
        >
          flip
        </button>
      </template>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <template v-if="s">
      <div
        v-for="m in s.misses"
        :key="m.what"
        class="flex justify-between gap-2 border-b border-dotted border-rule py-1.5"
      >
        <span>{{ named(m.datum) }} {{ m.what }}</span
        ><span class="fig whitespace-nowrap">{{ signed(m.degrees) }}°</span>
      </div>
      <p class="mt-2" :class="s.open.length ? '' : 'text-soft'" data-figure="open">
        {{ s.open.length ? `Still open: ${s.open.join(', ')}.` : 'All six freedoms are held.' }}
      </p>
      <div v-if="s.open.length" aria-label="Try what is open" role="group">
        <label v-for="f in s.open" :key="f" class="mt-1 flex items-center gap-2">
          <span class="w-[92px] text-soft">{{ f }}</span>
          <input
            type="range"
            class="min-w-0 flex-1 accent-saffron"
            :aria-label="`try ${f}`"
            :min="-reach(f)"
            :max="reach(f)"
            :step="reach(f) / 180"
            :value="trial.by[f] ?? 0"
            @input="trial.by[f] = Number(($event.target as HTMLInputElement).value)"
          />
          <span class="fig w-14 text-right">{{ signed(trial.by[f] ?? 0, 1) }}{{ isTurn(f) ? '°' : '' }}</span>
        </label>
        <p class="mt-1 text-soft">Drag to see what is left open; laying leaves it so.</p>
      </div>
      <template v-if="s.orders.length > 1">
        <h3 class="mt-3">If trusted the other way</h3>
        <table class="mt-1.5 w-full" aria-label="Orders of trust">
          <thead class="text-left text-soft">
            <tr>
              <th class="font-normal">held exactly</th>
              <th class="pl-2 text-right font-normal">other misses</th>
              <th class="pl-3 text-right font-normal">part moves</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="o in s.orders" :key="o.first" class="border-t border-dotted border-rule">
              <td class="max-w-[104px] truncate py-1 pr-1">
                <button
                  class="btn w-full truncate !px-1.5 !py-0.5 text-left"
                  :class="{ 'btn-on': o.chosen }"
                  :aria-pressed="o.chosen"
                  @click="o.chosen || swap()"
                >
                  {{ j.byId.get(o.first)?.name }}
                </button>
              </td>
              <td class="fig text-right">
                {{ signed(o.degrees) }}°<span v-if="o.edge_mm !== null" class="block text-soft"
                  >{{ o.edge_mm.toFixed(2) }} mm at edge</span
                >
              </td>
              <td class="fig text-right">{{ o.chosen ? '' : `${(o.moves_mm ?? 0).toFixed(3)} mm` }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="zeroMove" class="mt-1.5 text-soft" data-figure="zero moves">
          {{ zeroMove }} mm of it is zero, which the datum trusted first then places.
        </p>
      </template>
    </template>
    <p v-else class="mt-1.5 text-soft">Choose a first datum.</p>
  </section>
</template>
