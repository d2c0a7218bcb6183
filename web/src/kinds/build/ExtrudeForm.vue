<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import Rule from '../../bench/Rule.vue'
import { short, typed, whole } from '../../state/format'
import { useStep } from '../useStep'
import { facesPicked, missingFaces } from './ends'
import type { SketchTold } from './loops'

type Record = Schemas['ExtrudeStep']
type End = 'start' | 'end'
const { job: j, hand, r, told } = useStep<Record, Schemas['ExtrudeTold']>()
const sketches = computed(() => j.before(r.value.id, 'sketch'))
const bodies = computed(() => j.before(r.value.id, 'body'))
const sketch = computed(() => j.toldOf<SketchTold>(j.byId.get(r.value.sketch)))
const ENDS: End[] = ['start', 'end']
const word = (k: string) => (k === 'start' ? 'from' : k === 'end' ? 'to' : k)

type Loop = { id: string; ids: string[]; text: string; circle: boolean }
const loops = computed<Loop[]>(() => {
  const s = sketch.value
  if (!s) return []
  const by = new Map(s.geometry.map((e) => [e.id, e]))
  return s.loops.map((ids, k) => {
    const e = by.get(ids[0])!
    const round = e.kind === 'circle'
    const what = round ? `⌀ ${short(2 * e.radius!)}` : `${ids.length} pieces`
    const at = (e.center ?? []).map((c) => short(Math.round(c * 10) / 10)).join(', ')
    const where = round ? ` at ${at}` : s.inside[k] === null ? ', outermost' : ', inside'
    return { id: ids[0], ids, text: what + where, circle: round }
  })
})
const chosen = (l: Loop, k: number) =>
  r.value.loops.length
    ? l.ids.some((i) => r.value.loops.includes(i))
    : k === 0 || r.value.result === 'surface'
const retry = () => !missingFaces(r.value).length && hand.tryIt(0)
function toggle(l: Loop, k: number) {
  const now = loops.value.filter(chosen).map((x) => x.id)
  r.value.loops = chosen(l, k) ? now.filter((i) => i !== l.id) : [...now, l.id]
  retry()
}
const circles = computed(() => loops.value.filter((l) => l.circle))
function allCircles() {
  r.value.loops = circles.value.map((l) => l.id)
  retry()
}
function other(id: string) {
  Object.assign(r.value, { sketch: id, loops: [] })
  retry()
}
function how(v: Record['how']) {
  r.value.how = v
  retry()
}
/** Whether an end is a face that is picked on the scan. */
const picked = (k: End) => facesPicked(r.value[k].to)
const WORDS: { [to: string]: string } = {
  through: 'past the body',
  height: 'a height',
  opposite: 'as far from the paper',
}
const values = computed(() => hand.preview?.values ?? [])
function to(k: End, v: Record['start']['to']) {
  const old = r.value[k]
  const read = values.value.find((x) => x.label === k)?.chosen
  const typed = { value: old.height.value ?? read ?? 0, source: 'typed' as const }
  const height = v === 'height' ? typed : { value: null, source: 'rounded' as const }
  r.value[k] = { to: v, pick: old.pick, datum: old.datum ?? null, height }
  if (picked(k) && !old.pick) hand.slot = k
  retry()
}
function face(k: End) {
  hand.slot = k
  if (!picked(k)) to(k, 'face')
}
function choose(label: string, value: number, source: string) {
  const chosen = { value, source: source as Record['draft']['source'] }
  if (label === 'draft' || label === 'wall') r.value[label] = chosen
  else r.value[label as End].height = chosen
  hand.tryIt(0)
}
function thin(text: string) {
  r.value.wall = { value: typed(text) ?? 0, source: 'typed' }
  retry()
}
const readings = computed(() => told.value?.readings ?? {})
const notes = computed(() => told.value?.notes ?? [])
/** The walls lean by this where they are modelled straight. */
const lean = computed(() => {
  const d = readings.value.draft
  if (!d) return null
  return Math.abs(d.value - (r.value.draft.value ?? 0)) > Math.max(0.3, 4 * d.uncertainty)
    ? Math.round(d.value * 2) / 2
    : null
})
function level(k: End, id: string) {
  r.value[k].datum = id || null
  retry()
}
const datums = computed(() => j.before(r.value.id, 'datum'))
/** A surface stands alone: what it does to a body is a step of its own. */
function gives(v: Record['result']) {
  r.value.result = v
  const none = { value: 0, source: 'typed' as const }
  if (v === 'surface') Object.assign(r.value, { body: null, how: 'join', wall: none, draft: { ...none } })
  else r.value.body = bodies.value.at(-1)?.id ?? null
  retry()
}
const GIVES: [Record['result'], string][] = [
  ['solid', 'a solid'],
  ['surface', 'a surface'],
]
const HOWS = computed<[Record['how'], string, boolean][]>(() => [
  ['join', r.value.body ? 'Join' : 'New', true],
  ['cut', 'Cut', bodies.value.length > 0],
  ['intersect', 'Common', bodies.value.length > 0],
])
</script>

<template>
  <Head
    :title="r.how === 'cut' ? 'Cut' : 'Extrude'"
    :says="
      r.how === 'cut' ? 'Take a sketch out of the body.' : 'Push a sketch through to where the scan ends.'
    "
  />
  <section class="section">
    <h3>Give</h3>
    <label class="slot mt-1.5"
      ><span class="w-[60px] text-soft">profile</span
      ><span class="h-[11px] w-[11px] rounded-[2px] bg-inkblue" />
      <select
        :value="r.sketch"
        class="min-w-0 flex-1 bg-transparent font-semibold"
        @change="other(($event.target as HTMLSelectElement).value)"
      >
        <option v-for="s in sketches" :key="s.id" :value="s.id">{{ s.name }}</option>
      </select></label
    >
    <fieldset class="mt-1.5 rounded-sm border border-rule bg-white px-2 py-1">
      <legend class="sr-only">Loops</legend>
      <label v-for="(l, k) in loops" :key="l.id" class="flex items-center gap-2 py-0.5"
        ><input type="checkbox" class="accent-inkblue" :checked="chosen(l, k)" @change="toggle(l, k)" />{{
          l.text
        }}</label
      >
      <span class="flex gap-3">
        <button v-if="circles.length > 1" class="py-0.5 underline" @click="allCircles">all circles</button>
        <button
          class="py-0.5 underline"
          :class="{ 'font-semibold': hand.slot === 'loops' }"
          :aria-pressed="hand.slot === 'loops'"
          @click="hand.slot = 'loops'"
        >
          click them in the view
        </button>
      </span>
    </fieldset>
    <template v-for="k in ENDS" :key="k">
      <div class="slot mt-1.5" :class="{ 'slot-on': hand.slot === k }">
        <button class="flex min-w-0 flex-1 items-center gap-2 text-left" @click="face(k)">
          <span class="w-[40px] text-soft">{{ word(k) }}</span>
          <template v-if="picked(k)"
            ><span v-if="r[k].pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span
              class="truncate"
              :class="r[k].pick ? 'font-semibold' : 'text-soft'"
              >{{
                !r[k].pick ? 'click a face' : r[k].to === 'face' ? 'face on scan' : 'the face as bent'
              }}</span
            ></template
          >
          <span v-else-if="r[k].to !== 'datum'" class="font-semibold">{{ WORDS[r[k].to] }}</span>
        </button>
        <select
          v-if="r[k].to === 'datum'"
          class="field min-w-0 flex-1 !px-1"
          :aria-label="`${k} datum`"
          :value="r[k].datum ?? ''"
          @change="level(k, ($event.target as HTMLSelectElement).value)"
        >
          <option value="" disabled>choose one</option>
          <option v-for="d in datums" :key="d.id" :value="d.id">{{ d.name }}</option>
        </select>
        <input
          v-if="r[k].to === 'height'"
          v-model.number="r[k].height.value"
          type="number"
          step="0.1"
          class="field fig w-[70px]"
          :aria-label="`${k} height, mm`"
          @change="retry"
        />
        <select
          class="field !px-1"
          :aria-label="`${k} by`"
          :value="r[k].to"
          @change="to(k, ($event.target as HTMLSelectElement).value as Record['start']['to'])"
        >
          <option value="face">face</option>
          <option value="surface">bent face</option>
          <option value="height">height</option>
          <option value="through" :disabled="!r.body">through</option>
          <option value="datum" :disabled="!datums.length">datum</option>
          <option value="opposite" :disabled="r[k === 'start' ? 'end' : 'start'].to === 'opposite'">
            as far back
          </option>
        </select>
      </div>
      <Rule v-if="hand.slot === k && picked(k) && r[k].pick" :pick="r[k].pick" :element="null" />
    </template>
    <div class="mt-1.5 flex items-center gap-1.5" role="group" aria-label="gives">
      <span class="w-[66px] pl-2 text-soft">gives</span>
      <button
        v-for="[v, name] in GIVES"
        :key="v"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.result === v }"
        :aria-pressed="r.result === v"
        @click="gives(v)"
      >
        {{ name }}
      </button>
    </div>
    <div v-if="r.result === 'solid'" class="mt-1.5 flex items-center gap-1.5">
      <span class="w-[66px] pl-2 text-soft">body</span>
      <button
        v-for="[v, name, can] in HOWS"
        :key="v"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': r.how === v }"
        :aria-pressed="r.how === v"
        :disabled="!can"
        @click="how(v)"
      >
        {{ name }}
      </button>
    </div>
    <label
      v-if="!r.keep_inner && r.result === 'solid'"
      class="mt-1.5 flex items-center gap-2"
      title="Only a wall along the outline"
    >
      <span class="w-[66px] pl-2 text-soft">wall</span>
      <input
        v-typing
        type="number"
        step="0.5"
        class="field fig w-[70px]"
        aria-label="wall, mm"
        :value="r.wall?.value || null"
        @change="thin(($event.target as HTMLInputElement).value)"
      />
      <span class="text-soft">{{ r.wall?.value ? 'mm, inward' : 'solid' }}</span>
    </label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!values.length" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Reading the scan' : 'Pick both faces and the scan says how far it goes.' }}
    </p>
    <Chip
      v-for="v in values"
      :key="v.name"
      v-bind="v"
      :label="word(v.label)"
      @choose="(x: number, w: string) => choose(v.label, x, w)"
    />
    <p v-for="(d, k) in readings" :key="k" class="text-[11.5px] text-soft">
      {{ word(String(k)) }}: {{ whole(d.count) }} facets, scatter {{ d.scatter.toFixed(3)
      }}{{ k === 'draft' ? '°' : ' mm' }}
    </p>
    <p v-for="n in notes" :key="n" class="mt-1 text-soft" data-figure="note">
      {{ n[0]!.toUpperCase() + n.slice(1) }}.
    </p>
    <button v-if="lean !== null" class="mt-1.5 underline" @click="choose('draft', lean, 'rounded')">
      Lean the walls by {{ lean }}°
    </button>
  </section>
</template>
