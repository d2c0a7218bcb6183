<script setup lang="ts">
import { computed } from 'vue'
import { short } from '../state/format'
import { useJob } from '../state/job'
import Chip from './Chip.vue'
import Head from './Head.vue'
import Rule from './Rule.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const before = computed(() => {
  const at = j.allStones.findIndex((s) => s.id === r.value.id)
  return at < 0 ? j.allStones : j.allStones.slice(0, at)
})
const sketches = computed(() => before.value.filter((s) => s.produces === 'sketch' && j.done(s)))
const bodies = computed(() => before.value.filter((s) => s.produces === 'body' && j.done(s)))
const sketch = computed<any>(() => j.byId.get(r.value.sketch)?.summary)
const loops = computed(() => {
  const s = sketch.value
  if (!s) return []
  const by = new Map<string, any>(s.geometry.map((e: any) => [e.id, e]))
  return s.loops.map((ids: string[], k: number) => {
    const e = by.get(ids[0])
    const what = e.kind === 'circle' ? `⌀ ${short(2 * e.radius)}` : `${ids.length} pieces`
    const where = e.kind === 'circle' ? ` at ${e.center.map((c: number) => short(Math.round(c * 10) / 10)).join(', ')}` : s.inside[k] === null ? ', outermost' : ', inside'
    return { id: ids[0], ids, text: what + where, circle: e.kind === 'circle' }
  })
})
const chosen = (l: { ids: string[] }, k: number) => (r.value.loops.length ? l.ids.some((i) => r.value.loops.includes(i)) : k === 0)
const ready = () => ['start', 'end'].every((k) => r.value[k].to !== 'face' || r.value[k].pick)
const retry = () => ready() && j.tryIt(0)
function toggle(l: { id: string; ids: string[] }, k: number) {
  const now = loops.value.filter((x: any, i: number) => chosen(x, i)).map((x: any) => x.id)
  r.value.loops = chosen(l, k) ? now.filter((i: string) => i !== l.id) : [...now, l.id]
  retry()
}
function circles() {
  r.value.loops = loops.value.filter((l: any) => l.circle).map((l: any) => l.id)
  retry()
}
function how(v: string) {
  r.value.how = v
  retry()
}
function to(k: string, v: string) {
  const old = r.value[k]
  r.value[k] = { to: v, pick: old.pick ?? null, height: v === 'height' ? { value: old.height?.value ?? j.preview?.values.find((x) => x.label === k)?.chosen ?? 0, source: 'typed' } : { value: null, source: 'rounded' } }
  if (v === 'face' && !old.pick) j.slot = k
  retry()
}
function choose(label: string, value: number, source: string) {
  if (label === 'draft') r.value.draft = { value, source }
  else r.value[label].height = { value, source }
  j.tryIt(0)
}
if (j.hand!.editing) j.tryIt(0)
const values = computed(() => j.preview?.values ?? [])
const readings = computed<any>(() => j.preview?.summary?.readings ?? {})
const notes = computed<string[]>(() => (j.preview?.summary?.notes as string[]) ?? [])
const straight = computed(() => readings.value.draft && Math.abs(readings.value.draft.value - (r.value.draft.value ?? 0)) > Math.max(0.3, 4 * readings.value.draft.uncertainty))
</script>

<template>
  <Head :title="r.how === 'cut' ? 'Cut' : 'Extrude'" :says="r.how === 'cut' ? 'Take a sketch out of the body.' : 'Push a sketch through to where the scan ends.'" />
  <section class="section">
    <h3>Give</h3>
    <label class="slot mt-1.5"><span class="w-[60px] text-soft">profile</span><span class="h-[11px] w-[11px] rounded-[2px] bg-inkblue" />
      <select v-model="r.sketch" class="min-w-0 flex-1 bg-transparent font-semibold" @change="(r.loops = []), retry()"><option v-for="s in sketches" :key="s.id" :value="s.id">{{ s.name }}</option></select></label>
    <fieldset class="mt-1.5 rounded-sm border border-rule bg-white px-2 py-1">
      <legend class="sr-only">Loops</legend>
      <label v-for="(l, k) in loops" :key="l.id" class="flex items-center gap-2 py-0.5"><input type="checkbox" class="accent-[#1E3C66]" :checked="chosen(l, Number(k))" @change="toggle(l, Number(k))" />{{ l.text }}</label>
      <button v-if="loops.filter((l: any) => l.circle).length > 1" class="py-0.5 underline" @click="circles">all circles</button>
    </fieldset>
    <template v-for="k in ['start', 'end']" :key="k">
      <div class="slot mt-1.5" :class="{ 'slot-on': j.slot === k }">
        <button class="flex min-w-0 flex-1 items-center gap-2 text-left" @click="(j.slot = k), r[k].to !== 'face' && to(k, 'face')">
          <span class="w-[40px] text-soft">{{ k === 'start' ? 'from' : 'to' }}</span>
          <template v-if="r[k].to === 'face'"><span v-if="r[k].pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span class="truncate" :class="r[k].pick ? 'font-semibold' : 'text-soft'">{{ r[k].pick ? 'face on scan' : 'click a face' }}</span></template>
          <span v-else class="font-semibold">{{ r[k].to === 'through' ? 'past the body' : 'a height' }}</span>
        </button>
        <input v-if="r[k].to === 'height'" v-model.number="r[k].height.value" type="number" step="0.1" class="field fig w-[70px]" :aria-label="`${k} height, mm`" @change="retry" />
        <select class="field !px-1" :aria-label="`${k} by`" :value="r[k].to" @change="to(k, ($event.target as HTMLSelectElement).value)"><option value="face">face</option><option value="height">height</option><option value="through" :disabled="!r.body">through</option></select>
      </div>
      <Rule v-if="j.slot === k && r[k].to === 'face' && r[k].pick" :pick="r[k].pick" :element="null" />
    </template>
    <div class="mt-1.5 flex items-center gap-1.5">
      <span class="w-[66px] pl-2 text-soft">body</span>
      <button class="btn flex-1 !px-1" :class="{ 'btn-on': r.how === 'join' }" :aria-pressed="r.how === 'join'" @click="how('join')">{{ r.body ? 'Join' : 'New' }}</button>
      <button class="btn flex-1 !px-1" :class="{ 'btn-on': r.how === 'cut' }" :disabled="!bodies.length" :aria-pressed="r.how === 'cut'" @click="how('cut')">Cut</button>
      <button class="btn flex-1 !px-1" :class="{ 'btn-on': r.how === 'intersect' }" :disabled="!bodies.length" :aria-pressed="r.how === 'intersect'" @click="how('intersect')">Common</button>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!values.length" class="mt-1.5 text-soft">{{ j.previewing ? 'Reading the scan' : 'Pick both faces and the scan says how far it goes.' }}</p>
    <Chip v-for="v in values" :key="v.name" v-bind="v" :label="v.label === 'start' ? 'from' : v.label === 'end' ? 'to' : v.label" @choose="(x, w) => choose(v.label, x, w)" />
    <p v-for="k in Object.keys(readings)" :key="k" class="text-[11.5px] text-soft">{{ k === 'start' ? 'from' : k === 'end' ? 'to' : k }}: {{ readings[k].count.toLocaleString('en') }} facets, scatter {{ readings[k].scatter.toFixed(3) }}{{ k === 'draft' ? '°' : ' mm' }}</p>
    <p v-for="n in notes" :key="n" class="mt-1 text-soft">The face {{ n }}.</p>
    <button v-if="straight" class="mt-1.5 underline" @click="choose('draft', Math.round(readings.draft.value * 2) / 2, 'rounded')">Lean the walls by {{ Math.round(readings.draft.value * 2) / 2 }}°</button>
  </section>
</template>
