<script setup lang="ts">
/** A sheet: its area, how far it reaches on each side, calm or tight, and where it has to lie closer. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { typed } from '../../state/format'
import { useStep } from '../useStep'

const { hand, job, marks: m, r, told } = useStep<Schemas['SheetStep'], Schemas['SheetTold']>()
const ENDS = ['past the rim', 'at the rim'] as const
const SIDES = ['before', 'after', 'one side', 'other side'] as const
const planes = computed(() => job.before(r.value.id ?? '', 'datum'))
function mirror(e: Event) {
  r.value.mirror = (e.target as HTMLSelectElement).value || null
  again()
}
const apart = computed(() => r.value.sides.length === 4)

function again() {
  if (r.value.marks.length) hand.tryIt(0)
}
function ends(to: (typeof ENDS)[number]) {
  r.value.ends = to
  again()
}
function reach(e: Event) {
  r.value.reach = Math.max(0, typed((e.target as HTMLInputElement).value) ?? 0)
  again()
}
function sides(e: Event) {
  r.value.sides = (e.target as HTMLInputElement).checked ? Array(4).fill(r.value.reach) : []
  again()
}
function side(k: number, e: Event) {
  r.value.sides = r.value.sides.map((s, n) =>
    n === k ? Math.max(0, typed((e.target as HTMLInputElement).value) ?? 0) : s,
  )
  again()
}
function closeness(e: Event) {
  r.value.closeness = Number((e.target as HTMLInputElement).value)
  again()
}
function take(slot: 'marks' | 'closer') {
  hand.slot = hand.slot === slot ? null : slot
  if (hand.slot) m.by = slot === 'closer' ? 'brush' : 'zone'
  hand.select()
}
if (r.value.marks.length) hand.select()
</script>

<template>
  <Head
    title="Sheet"
    says="Mark an area; one smooth surface is laid over it, past its rim or trimmed to it."
  />
  <section class="section">
    <h3>Give</h3>
    <button
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'marks' }"
      @click="take('marks')"
    >
      <span class="w-[52px] text-soft">area</span>
      <span :class="r.marks.length ? 'font-semibold' : 'text-soft'">{{
        r.marks.length
          ? `${r.marks.length} ${r.marks.length === 1 ? 'mark' : 'marks'}`
          : 'mark it in the view'
      }}</span>
    </button>
    <div class="mt-1.5 flex items-center gap-1.5" role="group" aria-label="Where it ends">
      ends
      <button
        v-for="e in ENDS"
        :key="e"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.ends === e }"
        :aria-pressed="r.ends === e"
        @click="ends(e)"
      >
        {{ e }}
      </button>
    </div>
    <template v-if="r.ends === 'past the rim'">
      <label v-if="!apart" class="mt-1.5 flex items-center gap-2">
        <span class="w-[80px] pl-2 text-soft">reaches</span>
        <input
          v-typing
          type="number"
          min="0"
          step="any"
          class="field fig w-[72px]"
          aria-label="Reaches past, mm"
          :value="r.reach"
          @change="reach"
        />
        <span class="text-soft">mm past it</span>
      </label>
      <div v-else class="mt-1.5 grid grid-cols-2 gap-1.5">
        <label v-for="(name, k) in SIDES" :key="name" class="flex items-center gap-1.5">
          <input
            v-typing
            type="number"
            min="0"
            step="any"
            class="field fig w-[60px]"
            :aria-label="`Reaches past ${name}, mm`"
            :value="r.sides[k]"
            @change="(e) => side(k, e)"
          />
          <span class="text-soft">{{ name }}</span>
        </label>
      </div>
      <label class="mt-1.5 flex items-center gap-2 pl-2">
        <input type="checkbox" class="accent-ink" :checked="apart" @change="sides" /> each side by itself
      </label>
    </template>
    <label class="mt-1.5 flex items-center gap-2">
      <span class="w-[40px] pl-2 text-soft">calm</span>
      <input
        type="range"
        min="-3"
        max="3"
        step="0.25"
        class="min-w-0 flex-1 accent-ink"
        aria-label="Calm or tight"
        :value="r.closeness"
        @change="closeness"
      />
      <span class="text-soft">tight</span>
    </label>
    <label class="slot mt-1.5">
      <span class="w-[84px] text-soft">mirrored in</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        aria-label="mirrored in"
        :value="r.mirror ?? ''"
        @change="mirror"
      >
        <option value="">nothing</option>
        <option v-for="d in planes" :key="d.id" :value="d.id">{{ d.name }}</option>
      </select>
    </label>
    <button
      v-if="told || r.closer.length"
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'closer' }"
      @click="take('closer')"
    >
      <span class="w-[52px] text-soft">closer</span>
      <span :class="r.closer.length ? 'font-semibold' : 'text-soft'">{{
        r.closer.length ? `${r.closer.length} brushed` : 'brush where it must lie closer'
      }}</span>
    </button>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!told" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Fitting the sheet' : 'What it gives shows here.' }}
    </p>
    <dl v-else class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
      <dt>95 % within</dt>
      <dd class="fig" data-figure="p95">{{ told.p95.toFixed(4) }} mm</dd>
      <dt>rms</dt>
      <dd class="fig" data-figure="rms">{{ told.rms.toFixed(4) }} mm · noise {{ told.noise.toFixed(4) }}</dd>
      <dt>farthest</dt>
      <dd class="fig">{{ told.worst.toFixed(4) }} mm</dd>
      <dt>degree, spans</dt>
      <dd class="fig">{{ told.degree }}, {{ told.spans }} × {{ told.spans }}</dd>
      <template v-if="told.closer"
        ><dt>where brushed</dt>
        <dd class="fig" data-figure="closer">
          {{ told.closer[0].toFixed(4) }} → {{ told.closer[1].toFixed(4) }} mm rms
        </dd></template
      >
    </dl>
  </section>
</template>
