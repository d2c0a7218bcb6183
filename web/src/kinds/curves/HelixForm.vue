<script setup lang="ts">
/** A helix: where it was clicked, what it is held to, its numbers and which of three follows. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Chip from '../../bench/Chip.vue'
import Head from '../../bench/Head.vue'
import { mm, short, typed } from '../../state/format'
import { useStep } from '../useStep'
import type { Record, Told } from './strip'

type Three = Record['following']
const THREE: Three[] = ['pitch', 'turns', 'height']
const { hand, job, r, told } = useStep<Record, Told>()
const own = (name: string) => name.split('.').at(-1)!
const by = computed(() => new Map((hand.preview?.values ?? []).map((v) => [own(v.name), v])))
const rest = computed(() =>
  ['crest', 'crest_end', 'root', 'root_end'].map((k) => by.value.get(k)).filter((v) => !!v),
)
const others = (k: Three) => THREE.filter((t) => t !== k)
const axes = computed(() => job.before(r.value.id, 'datum'))
const places = computed(() => [...axes.value, ...job.before(r.value.id, 'sketch')])
function again() {
  if (r.value.pick) hand.tryIt(0)
}
function choose(name: string, value: number, source: string) {
  const fields = r.value as unknown as { [key: string]: Schemas['Chosen'] }
  fields[name] = { value, source: source as Schemas['Chosen']['source'] }
  again()
}
/** What followed is kept as it is now; another comes from the other two. */
function letFollow(name: Three) {
  const fields = r.value as unknown as { [key: string]: Schemas['Chosen'] }
  const was = r.value.following
  if (told.value) fields[was] = { value: Number(told.value[was].toFixed(4)), source: 'typed' }
  r.value.following = name
  again()
}
function set<K extends keyof Record>(key: K, value: Record[K]) {
  r.value[key] = value
  again()
}
const text = (e: Event) => (e.target as HTMLInputElement | HTMLSelectElement).value
function turns(key: 'run_in' | 'run_out', e: Event) {
  const v = typed(text(e))
  set(key, { value: v && v > 0 ? v : 0, source: 'typed' })
}
function standard() {
  r.value.pitch = { value: told.value!.standard_pitch!, source: 'standard' }
  if (r.value.following === 'pitch') r.value.following = 'turns'
  again()
}
const pitches = computed(() => {
  const p = told.value?.pitches ?? []
  return told.value?.varies ? `${short(p[0])} to ${short(p[p.length - 1])}` : ''
})
</script>

<template>
  <Head title="Helix" says="One click on the ridge or groove; the rest is read from the scan." />
  <section class="section">
    <h3>Give</h3>
    <button class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'pick' }" @click="hand.slot = 'pick'">
      <span class="w-[60px] text-soft">ridge</span
      ><span :class="r.pick ? 'font-semibold' : 'text-soft'">{{
        r.pick ? 'picked on the scan' : 'click it'
      }}</span>
    </button>
    <label class="slot mt-1.5" :class="{ 'slot-on': hand.slot === 'held' }">
      <span class="w-[60px] text-soft">held to</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        aria-label="held to"
        :value="r.held ?? ''"
        @change="set('held', text($event) || null)"
      >
        <option value="">its own axis</option>
        <option v-for="s in axes" :key="s.id" :value="s.id">{{ s.name }}</option>
      </select>
    </label>
    <label class="slot mt-1.5">
      <span class="w-[60px] text-soft">begins at</span>
      <select
        class="min-w-0 flex-1 bg-transparent font-semibold"
        aria-label="begins at"
        :value="r.begins ?? ''"
        @change="set('begins', text($event) || null)"
      >
        <option value="">where the scan has it</option>
        <option v-for="s in places" :key="s.id" :value="s.id">{{ s.name }}</option>
      </select>
    </label>
    <label
      v-if="r.begins && places.find((s) => s.id === r.begins)?.produces === 'sketch'"
      class="mt-1.5 flex gap-2"
    >
      <span class="w-[60px] pl-2 text-soft">place</span>
      <input
        v-typing
        class="field fig min-w-0 flex-1"
        placeholder="a point, or e1.end"
        aria-label="place of the sketch"
        :value="r.begins_entity ?? ''"
        @change="set('begins_entity', text($event) || null)"
      />
    </label>
    <div class="mt-1.5 flex gap-1.5" role="group" aria-label="runs on">
      <button
        v-for="on in ['crest', 'root'] as const"
        :key="on"
        class="btn flex-1"
        :class="{ 'btn-on': r.on === on }"
        :aria-pressed="r.on === on"
        @click="set('on', on)"
      >
        on the {{ on }}
      </button>
    </div>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!told" class="mt-1.5 text-soft">
      {{ hand.previewing ? 'Folding all turns onto one' : 'Its numbers show here once it is clicked.' }}
    </p>
    <template v-else>
      <template v-for="k in THREE" :key="k">
        <div
          v-if="k === r.following"
          class="flex items-center gap-2 border-b border-dotted border-rule py-1.5"
          :data-follows="k"
        >
          <span class="w-[76px] shrink-0">{{ k }}</span>
          <span class="min-w-0 flex-1">
            <span class="fig block text-soft">{{
              k === 'pitch' && pitches ? pitches : mm(by.get(k)?.measured ?? 0)
            }}</span>
            <span class="block text-[11px] text-soft"
              >from the other two; let
              <template v-for="(o, n) in others(k)" :key="o"
                ><template v-if="n"> or </template
                ><button class="underline" @click="letFollow(o)">{{ o }}</button></template
              >
              follow</span
            >
          </span>
          <span class="fig rounded-sm border border-dashed border-rule px-2 py-1" :data-value="k">{{
            short(told[k])
          }}</span>
        </div>
        <Chip v-else-if="by.get(k)" v-bind="by.get(k)!" @choose="(v: number, s: string) => choose(k, v, s)" />
      </template>
      <Chip
        v-for="v in rest"
        :key="v.name"
        v-bind="v"
        @choose="(x: number, s: string) => choose(own(v.name), x, s)"
      />
      <dl class="mt-1.5 grid grid-cols-[76px_1fr] gap-x-2 gap-y-1">
        <dt>hand</dt>
        <dd>
          {{ told.hand }}<template v-if="told.starts > 1">, {{ told.starts }} starts</template>
          <button
            class="ml-2 underline"
            @click="
              set('hand', r.hand === 'as read' ? (told.hand === 'right' ? 'left' : 'right') : 'as read')
            "
          >
            {{ r.hand === 'as read' ? 'turn it' : 'as the scan says' }}
          </button>
        </dd>
        <template v-if="told.own_axis_deg !== null">
          <dt>own axis</dt>
          <dd class="fig">{{ told.own_axis_deg.toFixed(2) }}°, {{ mm(told.own_axis_mm ?? 0) }} off</dd>
        </template>
        <template v-if="told.standard">
          <dt>could be</dt>
          <dd>
            {{ told.standard }}<span class="text-soft">, costs {{ mm(told.standard_costs ?? 0) }} rms </span>
            <button v-if="r.pitch.source !== 'standard'" class="underline" @click="standard">
              call it so
            </button>
          </dd>
        </template>
        <dt>costs</dt>
        <dd class="fig" data-figure="costs">{{ mm(told.costs) }} rms</dd>
      </dl>
    </template>
    <details class="mt-2">
      <summary class="cursor-pointer text-soft">More</summary>
      <label class="mt-1.5 flex items-center gap-2">
        <span class="w-[104px]">runs in over</span>
        <input
          v-typing
          type="number"
          min="0"
          step="0.25"
          class="field fig w-20"
          aria-label="runs in over"
          :value="r.run_in.value"
          @change="turns('run_in', $event)"
        /><span class="text-soft">turns</span>
      </label>
      <label class="mt-1.5 flex items-center gap-2">
        <span class="w-[104px]">runs out over</span>
        <input
          v-typing
          type="number"
          min="0"
          step="0.25"
          class="field fig w-20"
          aria-label="runs out over"
          :value="r.run_out.value"
          @change="turns('run_out', $event)"
        /><span class="text-soft">turns</span>
      </label>
      <label class="mt-1.5 flex items-center gap-2">
        <input
          type="checkbox"
          class="accent-ink"
          :checked="r.even"
          @change="set('even', ($event.target as HTMLInputElement).checked)"
        />
        pitch and radii are even
      </label>
    </details>
    <p v-if="r.shift || r.pins.length" class="mt-1.5 text-soft">
      Moved by hand<template v-if="r.shift">: {{ mm(r.shift) }} mm along</template
      ><template v-if="r.pins.length">, bent at {{ r.pins.length }} places</template>;
      <button class="underline" @click="((r.shift = 0), (r.pins = []), again())">as it was read</button>
    </p>
  </section>
</template>
