<script setup lang="ts">
/**
 * A form made from a kind's own schema: what it takes, what it says, before and after; what few people
 * change is folded.
 */
import { computed } from 'vue'
import { fieldsOf, type FormField } from '../kinds/fields'
import { useHand } from '../state/hand'
import { useJob, scanLine } from '../state/job'
import { useRoom } from '../state/room'
import { useSchemas } from '../state/schemas'
import { useShown } from '../state/shown'
import Chip from './Chip.vue'
import Field from './Field.vue'
import Head from './Head.vue'

const j = useJob()
const hand = useHand()
const shown = useShown()
const room = useRoom()
const schemas = useSchemas()
const kind = computed(() => hand.kind!)
const record = computed(() => hand.record!)
const text = (t: string | ((r: never) => string)) => (typeof t === 'string' ? t : t(record.value as never))
const fields = computed(() => {
  const schema = schemas.value[kind.value.kind]
  return schema ? fieldsOf(schema.schema.properties, record.value) : []
})
const plain = computed(() => fields.value.filter((f) => !f.more))
const more = computed(() => fields.value.filter((f) => f.more))
const before = computed(() => (hand.scan ? { ...scanLine(hand.scan) } : {}))
/** What there is to say; a figure without words is left out. */
const figures = computed(() => {
  const { told } = hand
  if (!told) return []
  return kind.value.figures.map((f) => ({ ...f, says: f.of(told, before.value) })).filter((f) => f.says)
})
/** The stones that may stand in a field: of what it works on, not the step's own first body or scan again. */
const stonesFor = (f: FormField) =>
  (f.ref ?? [])
    .flatMap((g) => j.before(record.value.id, g))
    .filter((s) => f.is !== 'stones' || (s.id !== record.value.body && s.id !== record.value.scan))
/** It takes one place on the scan, by a click. */
const takesPlace = computed(() => 'pick' in kind.value.slots)
/** A value's name within its step. */
const own = (name: string) => name.split('.').at(-1)!
/** Numbers that the scan says, of fields that hold a choice. */
const values = computed(() =>
  (hand.preview?.values ?? []).filter(
    (v) => v.measured !== null && fields.value.some((f) => f.key === own(v.name) && f.is === 'chosen'),
  ),
)
function set(key: string, value: unknown) {
  record.value[key] = value
  kind.value.follows(key, record.value, room)
  hand.again(250)
}
</script>

<template>
  <Head :title="text(kind.title)" :says="text(kind.says)" />
  <section class="section">
    <h3>Give</h3>
    <button
      v-if="takesPlace"
      class="slot mt-1.5"
      :class="{ 'slot-on': hand.slot === 'pick' }"
      @click="hand.slot = 'pick'"
    >
      <span class="w-[68px] text-soft">place</span
      ><span v-if="record.pick" class="h-[11px] w-[11px] rounded-[2px] bg-sand" /><span
        :class="record.pick ? 'font-semibold' : 'text-soft'"
        >{{ record.pick ? 'picked on scan' : 'click it in the view' }}</span
      >
    </button>
    <Field
      v-for="f in plain"
      :key="f.key"
      :field="f"
      :value="record[f.key]"
      :stones="stonesFor(f)"
      @set="(v) => set(f.key, v)"
    />
    <p v-if="!plain.length && !more.length && !takesPlace" class="mt-1.5 text-soft">Nothing to set.</p>
    <details v-if="more.length" class="mt-2">
      <summary class="cursor-pointer text-soft">More</summary>
      <Field
        v-for="f in more"
        :key="f.key"
        :field="f"
        :value="record[f.key]"
        :stones="stonesFor(f)"
        @set="(v) => set(f.key, v)"
      />
    </details>
  </section>
  <section v-if="kind.tries !== 'by itself'" class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!hand.told && !hand.previewing" class="mt-1.5 text-soft">What it gives shows here.</p>
    <Chip
      v-for="v in values"
      :key="v.name"
      v-bind="v"
      @choose="(x: number, w: string) => set(own(v.name), { value: x, source: w })"
    />
    <template v-if="hand.told">
      <dl class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1">
        <template v-for="f in figures" :key="f.key">
          <dt>{{ f.label }}</dt>
          <dd class="fig" :data-figure="f.key">{{ f.says }}</dd>
        </template>
      </dl>
      <div v-if="kind.compares && !kind.goes" class="mt-2.5 flex gap-1.5" role="group" aria-label="Shown">
        <button
          v-for="on in [false, true]"
          :key="String(on)"
          class="btn flex-1 !px-1"
          :class="{ 'btn-on': shown.show.after === on }"
          :aria-pressed="shown.show.after === on"
          @click="shown.show.after = on"
        >
          {{ on ? 'After' : 'Before' }}
        </button>
        <button
          class="btn flex-1 !px-1"
          :class="{ 'btn-on': shown.show.edges }"
          :aria-pressed="shown.show.edges"
          @click="shown.show.edges = !shown.show.edges"
        >
          Edges
        </button>
        <button
          v-if="kind.compares === 'moved too'"
          class="btn flex-1 !px-1"
          :class="{ 'btn-on': shown.show.moved }"
          :aria-pressed="shown.show.moved"
          title="How far the surface moved, as colours"
          @click="((shown.show.moved = !shown.show.moved), (shown.show.after = true))"
        >
          Moved
        </button>
      </div>
      <p v-if="shown.show.moved && shown.reach" class="mt-1.5 text-soft">
        Rust stands out of the surface before, teal lies under it; full colour at ±
        <span class="fig">{{ shown.reach.toFixed(3) }}</span> mm.
      </p>
    </template>
  </section>
</template>
