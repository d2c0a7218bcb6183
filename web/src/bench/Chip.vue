<script setup lang="ts">
/** A value as a chip: what it is called, what the scan says, what was chosen; opened, the numbers one may want instead. */
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'
import { mm, pm, short, signed } from '../state/format'
import { useJob } from '../state/job'

type Suggestion = { value: number; why: string; moves: number }
const props = defineProps<{ label: string; measured: number | null; uncertainty: number | null; chosen: number; source: string; unit: string; cost?: number | null; suggestions?: Suggestion[]; fixed?: boolean }>()
const emit = defineEmits<{ choose: [value: number, source: string] }>()
const j = useJob()
const text = ref('')
const inches = computed(() => j.inches && props.unit === 'mm')
const says = computed(() => {
  if (props.fixed || props.source === 'scan') return 'as the scan says'
  const why = props.source === 'rounded' ? 'round' : props.source
  return props.cost === null || props.cost === undefined ? why : `${why}, costs ${signed(props.cost)} rms`
})
function choose(value: number, source: string, close: () => void) {
  emit('choose', value, source)
  close()
}
function typed(close: () => void) {
  const v = Number(text.value.replace(',', '.')) * (inches.value ? 25.4 : 1)
  if (text.value.trim() && Number.isFinite(v)) choose(v, 'typed', close)
}
</script>

<template>
  <div class="flex items-center gap-2 border-b border-dotted border-rule py-1.5 last:border-0">
    <span class="w-[76px] shrink-0 truncate" :title="label">{{ label }}</span>
    <span class="min-w-0 flex-1">
      <span class="fig block whitespace-nowrap text-soft">{{ measured === null ? 'not measured' : `${mm(measured, 3, inches)}${unit === 'deg' ? '°' : ''} ${pm(inches && uncertainty ? uncertainty / 25.4 : uncertainty)}` }}</span>
      <span class="block truncate text-[11px] text-soft">{{ says }}</span>
    </span>
    <span v-if="fixed" class="fig font-medium">{{ short(inches ? chosen / 25.4 : chosen) }}</span>
    <Popover v-else v-slot="{ close }" class="relative">
      <PopoverButton class="fig min-w-[44px] rounded-sm border border-rule bg-white px-2 py-1 font-medium hover:border-ink" :aria-label="`${label}: chosen ${short(chosen)}, change`">{{ short(inches ? chosen / 25.4 : chosen) }}{{ unit === 'deg' ? '°' : '' }}</PopoverButton>
      <PopoverPanel class="absolute right-0 top-8 z-20 w-56 rounded-sm border border-ink bg-sheet p-2">
        <ul v-if="suggestions?.length">
          <li v-for="s in suggestions" :key="s.value">
            <button class="flex w-full items-baseline gap-2 rounded-sm px-2 py-1 hover:bg-held" @click="choose(s.value, s.why === 'as measured' ? 'typed' : 'rounded', close)">
              <span class="fig w-14 text-right font-medium">{{ short(inches ? s.value / 25.4 : s.value) }}</span><span class="flex-1 text-left text-soft">{{ s.why }}</span><span class="fig text-soft">{{ signed(s.moves) }}</span>
            </button>
          </li>
        </ul>
        <form class="mt-1 flex gap-1" @submit.prevent="typed(close)">
          <input v-model="text" class="field fig w-full" inputmode="decimal" :aria-label="`${label}, typed`" placeholder="another number" @keydown.enter.stop />
          <button class="btn !px-2">Choose</button>
        </form>
      </PopoverPanel>
    </Popover>
  </div>
</template>
