<script setup lang="ts">
/**
 * A value as a chip: what it is called, what the scan says, what was chosen; opened, the numbers one may
 * want instead.
 */
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'
import type { Schemas, Suggestion } from '../api/types'
import { mm, pm, short, signed, typed } from '../state/format'
import { useShown } from '../state/shown'
import HandReading from './HandReading.vue'

const props = defineProps<{
  label: string
  measured: number | null
  uncertainty: number | null
  chosen: number
  source: string
  unit: string
  cost?: number | null
  fixed?: boolean
  formula?: string | null
  reading?: Schemas['ReadingLine'] | null
  /** Whether a reading taken by hand may be entered against it. */
  readable?: boolean
  /** The numbers one may want; asked for when it is opened where they are not given. */
  suggestions?: Suggestion[]
  suggest?: () => Promise<Suggestion[]>
}>()
const emit = defineEmits<{
  choose: [value: number, source: string]
  read: [reading: Schemas['HandReading'] | null]
}>()
const byHand = ref(false)
const shown = useShown()
const text = ref('')
const fetched = ref<Suggestion[]>([])
const list = computed(() => props.suggestions ?? fetched.value)
const inches = computed(() => shown.inches && props.unit === 'mm')
const figure = (v: number) => short(inches.value ? v / 25.4 : v)
const degree = computed(() => (props.unit === 'deg' ? '°' : ''))
const says = computed(() => {
  if (props.fixed || props.source === 'scan') return 'as the scan says'
  const why = props.formula ? `= ${props.formula}` : props.source === 'rounded' ? 'round' : props.source
  return props.cost === null || props.cost === undefined ? why : `${why}, costs ${signed(props.cost)} rms`
})
const measures = computed(() => {
  if (props.measured === null) return 'not measured'
  const off = props.uncertainty && (2 * props.uncertainty) / (inches.value ? 25.4 : 1)
  return `${mm(props.measured, 3, inches.value)}${degree.value} ${pm(off)}`
})
async function opened() {
  if (props.suggest && !fetched.value.length) fetched.value = await props.suggest().catch(() => [])
}
function choose(value: number, source: string, close: () => void) {
  emit('choose', value, source)
  close()
}
function read(reading: Schemas['HandReading'] | null, close: () => void) {
  byHand.value = false
  emit('read', reading)
  close()
}
function take(close: () => void) {
  const v = typed(text.value)
  if (v !== null) choose(v * (inches.value ? 25.4 : 1), 'typed', close)
}
</script>

<template>
  <div class="flex items-center gap-2 border-b border-dotted border-rule py-1.5 last:border-0">
    <span class="w-[76px] shrink-0 truncate" :title="label">{{ label }}</span>
    <span class="min-w-0 flex-1">
      <span class="fig block whitespace-nowrap text-soft">{{ measures }}</span>
      <span class="block truncate text-[11px] text-soft">{{ says }}</span>
      <span v-if="reading" class="block text-[11px]" :class="reading.apart ? 'text-rust' : 'text-soft'">{{
        reading.says
      }}</span>
    </span>
    <span v-if="fixed" class="fig font-medium">{{ figure(chosen) }}</span>
    <Popover v-else v-slot="{ close }" class="relative">
      <PopoverButton
        class="fig min-w-[44px] rounded-sm border border-rule bg-white px-2 py-1 font-medium hover:border-ink"
        :aria-label="`${label}: chosen ${short(chosen)}, change`"
        @click="opened"
        >{{ figure(chosen) }}{{ degree }}</PopoverButton
      >
      <PopoverPanel class="absolute right-0 top-8 z-20 w-56 rounded-sm border border-ink bg-sheet p-2">
        <ul v-if="list.length">
          <li v-for="s in list" :key="s.value">
            <button
              class="flex w-full items-baseline gap-2 rounded-sm px-2 py-1 hover:bg-held"
              @click="choose(s.value, s.why === 'as measured' ? 'typed' : 'rounded', close)"
            >
              <span class="fig w-14 text-right font-medium">{{ figure(s.value) }}</span><span
                class="flex-1 text-left text-soft"
                >{{ s.why }}</span
              ><span class="fig text-soft">{{ signed(s.moves) }}</span>
            </button>
          </li>
        </ul>
        <form class="mt-1 flex gap-1" @submit.prevent="take(close)">
          <input
            v-model="text"
            class="field fig w-full"
            inputmode="decimal"
            :aria-label="`${label}, typed`"
            placeholder="another number"
            @keydown.enter.stop
          />
          <button class="btn !px-2">Choose</button>
        </form>
        <template v-if="readable">
          <button v-if="!byHand && !reading" class="mt-1.5 underline" @click="byHand = true">
            Read by hand
          </button>
          <HandReading
            v-else
            class="mt-2 border-t border-rule pt-2"
            :label="label"
            :unit="unit"
            :reading="reading ?? null"
            @read="(r) => read(r, close)"
          />
        </template>
      </PopoverPanel>
    </Popover>
  </div>
</template>
