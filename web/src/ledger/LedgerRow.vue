<script setup lang="ts">
/** One value: what the scan says, what was chosen and why, what gives it, what uses it. */
import { Ruler } from 'lucide-vue-next'
import { computed, nextTick, ref } from 'vue'
import type { Schemas } from '../api/types'
import HandReading from '../bench/HandReading.vue'
import { mm, pm, short, signed, typed } from '../state/format'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import type { Row } from './rows'
import { useSolve } from './solve'

const props = defineProps<{ row: Row }>()
const j = useJob()
const shown = useShown()
const solve = useSolve()
const degree = computed(() => (props.row.unit === 'deg' ? '°' : ''))
const inches = computed(() => shown.inches && props.row.unit === 'mm')
const scale = computed(() => (inches.value ? 25.4 : 1))
const figure = (v: number) => short(v / scale.value)
const moves = computed(() => !props.row.fixed && props.row.source !== 'formula')
const solved = computed(() => solve.found?.values.find((v) => v.name === props.row.name) ?? null)

const editing = ref<'chosen' | 'name' | null>(null)
const text = ref('')
const at = ref<HTMLInputElement | null>(null)
async function edit(what: 'chosen' | 'name') {
  editing.value = what
  text.value =
    what === 'name'
      ? props.row.given
        ? props.row.name
        : ''
      : props.row.formula
        ? `= ${props.row.formula}`
        : figure(props.row.chosen)
  await nextTick()
  at.value?.select()
}
/** A number, or a formula where it begins with = or is no number. */
async function take() {
  const what = editing.value
  editing.value = null
  const given = text.value.trim()
  const { name } = props.row
  if (what === 'name') return void (await j.act('POST', '/values/naming', { name, given }))
  if (!given) return
  const v = given.startsWith('=') ? null : typed(given)
  if (v === null) await j.act('POST', '/values', { name, formula: given.replace(/^=\s*/, '') })
  else if (v * scale.value !== props.row.chosen) await j.choose(name, v * scale.value)
}
const SOURCES: [string, string][] = [
  ['scan', 'as the scan says'],
  ['rounded', 'round'],
  ['typed', 'typed'],
  ['hand reading', 'hand reading'],
  ['standard', 'standard'],
  ['solved', 'solved with all'],
  ['several pieces', 'several pieces'],
  ['formula', 'formula'],
]
const sources = computed(() =>
  SOURCES.filter(
    ([s]) =>
      s === props.row.source ||
      (s === 'scan' && props.row.measured !== null) ||
      ['typed', 'hand reading', 'standard'].includes(s),
  ),
)
/** A reading is entered in a panel of its own beside the row. */
const reads = ref(false)
function read(reading: Schemas['HandReading'] | null) {
  reads.value = false
  j.act('POST', '/values/reading', { name: props.row.name, reading })
}
function source(e: Event) {
  const s = (e.target as HTMLSelectElement).value
  if (s === 'hand reading') return void (reads.value = true)
  const { name, chosen } = props.row
  j.act('POST', '/values', s === 'scan' ? { name } : { name, value: chosen, source: s })
}
</script>

<template>
  <tr
    class="border-t border-dotted border-rule hover:bg-white"
    :class="{ 'bg-held': shown.chosen === row.step }"
    :data-value="row.name"
  >
    <td class="pl-3">
      <input
        type="checkbox"
        class="accent-ink align-middle"
        :disabled="!moves"
        :checked="solve.ticked.has(row.name)"
        :aria-label="`Move ${row.name}`"
        @change="solve.tick(row.name)"
      />
    </td>
    <td class="max-w-[170px]">
      <input
        v-if="editing === 'name'"
        ref="at"
        v-model="text"
        class="field fig w-full !py-0"
        :aria-label="`Name of ${row.name}`"
        placeholder="as its stone"
        @keydown.enter.stop.prevent="take"
        @keydown.esc.stop="editing = null"
        @blur="editing = null"
      />
      <button
        v-else
        class="fig block max-w-full truncate text-left hover:underline"
        :title="`${row.name}: ${row.label}. Click to give it a name of its own.`"
        @click="edit('name')"
      >
        {{ row.name }}
      </button>
    </td>
    <td class="max-w-[84px]">
      <button
        class="block max-w-full truncate hover:underline"
        @click="shown.chosen = shown.chosen === row.step ? null : row.step"
      >
        {{ row.stone }}
      </button>
    </td>
    <td class="fig whitespace-nowrap text-right text-soft">
      <span
        v-if="row.measured !== null"
        :class="{ 'line-through': row.reading?.apart && row.source === 'hand reading' }"
        :title="row.reading?.says"
        >{{ mm(row.measured, 3, inches) }}{{ degree }}
        {{ pm(row.uncertainty === null ? null : (2 * row.uncertainty) / scale) }}</span
      >
    </td>
    <td class="whitespace-nowrap text-right">
      <span v-if="row.fixed" class="fig">{{ figure(row.chosen) }}{{ degree }}</span>
      <input
        v-else-if="editing === 'chosen'"
        ref="at"
        v-model="text"
        class="field fig w-[150px] !py-0"
        :aria-label="`${row.name}, a number or a formula`"
        @keydown.enter.stop.prevent="take"
        @keydown.esc.stop="editing = null"
        @blur="editing = null"
      />
      <button
        v-else
        class="field fig min-w-[60px] !px-1.5 !py-0 text-right font-medium hover:border-ink"
        :aria-label="`${row.name}: chosen ${short(row.chosen)}, change`"
        :title="row.formula ? `= ${row.formula}` : 'A number, or = and a formula'"
        @click="edit('chosen')"
      >
        {{ figure(row.chosen) }}{{ degree }}
      </button>
    </td>
    <td class="relative max-w-[150px] whitespace-nowrap">
      <span v-if="row.formula" class="fig block truncate" :title="row.formula">= {{ row.formula }}</span>
      <span v-else-if="row.fixed" class="text-soft">measured</span>
      <select
        v-else
        class="w-[92px] bg-transparent text-soft"
        :value="row.source"
        :aria-label="`Where ${row.name} comes from`"
        @change="source"
      >
        <option v-for="[s, words] in sources" :key="s" :value="s">{{ words }}</option>
      </select>
      <button
        class="ml-1 align-middle"
        :class="row.reading ? (row.reading.apart ? 'text-rust' : 'text-moss') : 'text-rule hover:text-ink'"
        :title="row.reading?.says ?? 'Read by hand'"
        :aria-label="`Hand reading of ${row.name}${row.reading ? `: ${row.reading.says}` : ''}`"
        @click="reads = !reads"
      >
        <Ruler :size="13" />
      </button>
      <div
        v-if="reads"
        class="absolute right-0 top-6 z-20 w-60 rounded-sm border border-ink bg-sheet p-2"
        @keydown.esc.stop="reads = false"
      >
        <HandReading :label="row.name" :unit="row.unit" :reading="row.reading" @read="read" />
        <button class="mt-1.5 underline" @click="reads = false">Leave it</button>
      </div>
    </td>
    <td class="fig text-right text-soft">{{ row.cost === null ? '' : signed(row.cost / scale) }}</td>
    <td v-if="solve.found" class="fig whitespace-nowrap text-right">
      <template v-if="solved?.uncertainty != null">
        <b class="font-medium">{{ mm(solved.after, 3, inches) }}{{ degree }}</b>
        <span class="text-soft"> {{ pm(solved.uncertainty / scale) }}</span>
      </template>
      <span v-else-if="solved" class="text-soft">left</span>
    </td>
    <td v-else class="max-w-[84px] truncate pr-3 text-soft" :title="row.used_by.join(', ')">
      {{ row.used_by.join(', ') }}
    </td>
  </tr>
</template>
