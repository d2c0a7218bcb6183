<script setup lang="ts">
/** Where the paper lies and what is traced on it. */
import { Eye, EyeOff, X } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../../api/types'
import { useSketch } from '../../paper/sketch'
import { useRoom } from '../../state/room'
import { freeId } from './names'

type Record = Schemas['SketchStep']
type Kind = Record['traces'][number]['kind']
const props = defineProps<{ record: Record }>()
const emit = defineEmits<{ moved: [] }>()
const s = useSketch()
const { job: j, hand, shown, marks: m } = useRoom()
const r = computed(() => props.record)
/** What is chosen in a list where it is clicked in the view. */
const BY_CLICK = ' by click'
const AXES: Record['axis'][] = ['x', 'y', 'z']
const KINDS: { kind: Kind; says: string }[] = [
  { kind: 'cut', says: 'another cut' },
  { kind: 'slab', says: 'between two planes' },
  { kind: 'silhouette', says: 'silhouette' },
  { kind: 'turned', says: 'turned about the axis' },
]
const adding = ref('')
const datums = computed(() => [...j.given('datum'), ...j.given('curve')].filter((d) => d.id !== r.value.id))
/** A curve the paper is square to, wherever along it. */
const curve = computed(() => j.given('curve').find((c) => c.id === r.value.on))
const seen = computed(() =>
  [...['datum', 'sketch', 'curve'].flatMap((g) => j.given(g)), ...j.bodies].filter(
    (d) => d.key && d.id !== r.value.id,
  ),
)
const models = computed(() => j.bodies.filter((b) => b.key))
/** The body whose face the paper lies on. */
const faced = computed(() => models.value.find((b) => b.id === r.value.on))
function turn(a: Record['axis']) {
  Object.assign(r.value, { axis: a, on: null, on_face: null })
  if (!r.value.along && r.value.traces[0]?.kind !== 'silhouette') s.begin()
  emit('moved')
}
function lay(along: boolean) {
  r.value.along = along
  r.value.height = 0
  if (!along) r.value.traces = r.value.traces.filter((t) => t.kind !== 'turned')
  if (!r.value.traces.length) add(along ? 'turned' : 'cut')
  emit('moved')
}
function on(id: string) {
  if (id === BY_CLICK) return take('face')
  r.value.on = id || null
  r.value.on_face = null
  if (!r.value.along && !curve.value && cuts.value) s.begin()
  emit('moved')
}
function add(kind: Kind) {
  const offset = kind === 'cut' && r.value.traces.length ? 2 : 0
  r.value.traces.push({ kind, offset, depth: kind === 'slab' ? 4 : null, hidden: false, counts: true })
  adding.value = ''
  emit('moved')
}
function project(id: string) {
  if (!id) return
  if (id === BY_CLICK) return take('edge')
  r.value.projected.push({ id: freeId(r.value), of: id, entity: null, edge: null })
  adding.value = ''
  emit('moved')
}
/** Something of the view is given: the model's face or edges, or what of the scan is traced. */
function take(slot: 'face' | 'edge' | 'only') {
  hand.slot = hand.slot === slot ? null : slot
  if (hand.slot === 'only') {
    shown.show.scan = true
    shown.model = false
    m.by = 'zone'
  } else if (hand.slot) shown.model = true
  hand.select()
}
watch(
  () => JSON.stringify(r.value.only),
  () => emit('moved'),
)
const cuts = computed(() => r.value.traces.some((t) => t.kind === 'cut' || t.kind === 'slab'))
</script>

<template>
  <section class="section" aria-label="Paper's place">
    <div class="flex items-center gap-1.5">
      <select
        class="field !py-1"
        aria-label="How the paper lies"
        :value="r.along ? 'along' : 'across'"
        @change="lay(($event.target as HTMLSelectElement).value === 'along')"
      >
        <option value="across">square to</option>
        <option value="along">holds</option>
      </select>
      <button
        v-for="a in AXES"
        :key="a"
        class="btn !px-2 !py-1"
        :class="{ 'btn-on': r.axis === a && !r.on }"
        :aria-pressed="r.axis === a && !r.on"
        @click="turn(a)"
      >
        {{ a }}
      </button>
      <select
        v-if="datums.length || models.length"
        class="field min-w-0 flex-1 !py-1"
        aria-label="Or by a datum"
        :value="r.on ?? ''"
        @change="on(($event.target as HTMLSelectElement).value)"
      >
        <option value="">or by…</option>
        <option v-for="d in datums" :key="d.id" :value="d.id">{{ d.name }}</option>
        <option v-if="faced" :value="faced.id">{{ r.on_face }}</option>
        <option v-if="models.length" :value="BY_CLICK">a face of the model…</option>
      </select>
    </div>
    <div v-if="curve" class="mt-1.5 flex items-center gap-2">
      <span class="text-soft">along</span>
      <input
        v-model.number="r.share"
        type="range"
        class="min-w-0 flex-1 accent-saffron"
        min="0"
        max="1"
        step="0.005"
        aria-label="Share of the curve"
        @input="emit('moved')"
      />
      <input
        v-model.number="r.share"
        type="number"
        min="0"
        max="1"
        step="0.05"
        class="field fig w-[74px]"
        aria-label="Share of the curve, from 0 to 1"
        @change="emit('moved')"
      />
    </div>
    <div v-else-if="cuts" class="mt-1.5 flex items-center gap-2">
      <input
        v-model.number="r.height"
        type="range"
        class="min-w-0 flex-1 accent-saffron"
        :min="s.trace ? Math.floor(s.trace.low) : -100"
        :max="s.trace ? Math.ceil(s.trace.high) : 100"
        step="0.05"
        aria-label="Drag the plane"
        @pointerdown="s.taken = true"
        @input="s.says = ''"
        @change="emit('moved')"
      />
      <input
        v-model.number="r.height"
        type="number"
        step="0.1"
        class="field fig w-[74px]"
        aria-label="Height of the plane, mm"
        @focus="s.taken = true"
        @change="((s.says = ''), emit('moved'))"
      />
    </div>
    <p v-if="s.says" class="note mt-1.5" role="status">{{ s.says }}</p>
    <ul class="mt-1.5">
      <li v-for="(t, k) in r.traces" :key="k" class="flex items-center gap-1.5 py-0.5">
        <button
          :aria-label="t.hidden ? 'Show the trace' : 'Hide the trace'"
          :title="t.hidden ? 'Show' : 'Hide'"
          @click="t.hidden = !t.hidden"
        >
          <component :is="t.hidden ? EyeOff : Eye" :size="14" />
        </button>
        <span class="flex-1 truncate">{{ t.kind }}<template v-if="t.kind === 'slab'">, deep</template></span>
        <input
          v-if="t.kind === 'slab'"
          v-model.number="t.depth"
          type="number"
          step="0.5"
          min="0.01"
          class="field fig w-[58px] !py-0.5"
          aria-label="Depth of the slab, mm"
          @change="emit('moved')"
        />
        <input
          v-if="(t.kind === 'cut' && k > 0) || t.kind === 'slab'"
          v-model.number="t.offset"
          type="number"
          step="0.5"
          class="field fig w-[58px] !py-0.5"
          aria-label="Beside the paper, mm"
          title="How far beside the paper, mm"
          @change="emit('moved')"
        />
        <label class="flex items-center gap-1 text-[12px] text-soft">
          <input v-model="t.counts" type="checkbox" class="accent-saffron" @change="emit('moved')" />fit to it
        </label>
        <button
          v-if="r.traces.length > 1"
          aria-label="Take the trace away"
          @click="(r.traces.splice(k, 1), emit('moved'))"
        >
          <X :size="14" />
        </button>
      </li>
      <li v-for="(p, k) in r.projected" :key="p.id" class="flex items-center gap-1.5 py-0.5 text-plum">
        <span class="flex-1 truncate"
          >{{ p.edge ? 'edge of ' : '' }}{{ j.byId.get(p.of)?.name }} seen here</span
        >
        <button aria-label="Take it off the paper" @click="(r.projected.splice(k, 1), emit('moved'))">
          <X :size="14" />
        </button>
      </li>
    </ul>
    <div class="mt-1 flex gap-1.5">
      <select
        v-model="adding"
        class="field min-w-0 flex-1 !py-0.5 text-[12px]"
        aria-label="Trace also"
        @change="add(adding as Kind)"
      >
        <option value="" disabled>trace also…</option>
        <option
          v-for="k in KINDS.filter((x) => x.kind !== 'turned' || r.along)"
          :key="k.kind"
          :value="k.kind"
        >
          {{ k.says }}
        </option>
      </select>
      <select
        v-if="seen.length"
        class="field min-w-0 flex-1 !py-0.5 text-[12px]"
        aria-label="See something else on the paper"
        @change="
          (project(($event.target as HTMLSelectElement).value),
          (($event.target as HTMLSelectElement).value = ''))
        "
      >
        <option value="">see here…</option>
        <option v-for="d in seen" :key="d.id" :value="d.id">{{ d.name }}</option>
        <option v-if="models.length" :value="BY_CLICK">edges of the model, by click…</option>
      </select>
    </div>
    <button
      class="slot mt-1.5 w-full text-left"
      :class="{ 'slot-on': hand.slot === 'only' }"
      :aria-pressed="hand.slot === 'only'"
      @click="take('only')"
    >
      <span class="w-[52px] text-soft">traced</span>
      <span :class="r.only.length ? 'font-semibold' : 'text-soft'">{{
        r.only.length
          ? `only what ${r.only.length === 1 ? 'one mark takes' : `${r.only.length} marks take`}`
          : hand.slot === 'only'
            ? 'mark what of the scan is'
            : 'all of the scan'
      }}</span>
    </button>
  </section>
</template>
