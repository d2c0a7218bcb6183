<script setup lang="ts">
/** A reading taken by hand, entered against a value: the instrument, what it showed, its smallest step. */
import { computed, ref } from 'vue'
import type { Schemas } from '../api/types'
import { short, typed } from '../state/format'
import { useShown } from '../state/shown'

type Reading = Schemas['HandReading']
const props = defineProps<{ label: string; unit: string; reading: Schemas['ReadingLine'] | null }>()
const emit = defineEmits<{ read: [reading: Reading | null] }>()
const shown = useShown()
const LENGTHS: [Reading['instrument'], number][] = [
  ['caliper', 0.02],
  ['micrometer', 0.01],
  ['depth gauge', 0.02],
  ['radius gauge', 0.25],
  ['thread gauge', 0.05],
]
const ANGLES: [Reading['instrument'], number][] = [['protractor', 0.1]]
const offered = computed(() => (props.unit === 'deg' ? ANGLES : LENGTHS))
const scale = computed(() => (shown.inches && props.unit === 'mm' ? 25.4 : 1))
const instrument = ref<Reading['instrument']>(props.reading?.instrument ?? offered.value[0][0])
const step = ref(short((props.reading?.resolution ?? offered.value[0][1]) / scale.value))
const value = ref(props.reading ? short(props.reading.value / scale.value) : '')
const note = ref(props.reading?.note ?? '')
const fits = computed(() => typed(value.value) !== null && (typed(step.value) ?? 0) > 0)
function usual() {
  const found = offered.value.find(([i]) => i === instrument.value)
  if (found) step.value = short(found[1] / scale.value)
}
function take() {
  if (!fits.value) return
  emit('read', {
    instrument: instrument.value,
    value: typed(value.value)! * scale.value,
    resolution: typed(step.value)! * scale.value,
    note: note.value.trim(),
  })
}
</script>

<template>
  <form class="space-y-1.5" :aria-label="`Hand reading of ${label}`" @submit.prevent="take">
    <div class="flex gap-1.5">
      <select v-model="instrument" class="field min-w-0 flex-1 !px-1" aria-label="Instrument" @change="usual">
        <option v-for="[i] in offered" :key="i" :value="i">{{ i }}</option>
      </select>
      <input
        v-model="value"
        class="field fig w-[84px] text-right"
        inputmode="decimal"
        placeholder="it shows"
        aria-label="What it showed"
        @keydown.enter.stop
      />
    </div>
    <div class="flex items-center gap-1.5">
      <label class="flex min-w-0 flex-1 items-center gap-1.5 text-soft"
        >to
        <input
          v-model="step"
          class="field fig w-[58px] text-right"
          inputmode="decimal"
          aria-label="Its smallest step"
          @keydown.enter.stop
        />
        {{ unit === 'deg' ? '°' : scale === 1 ? 'mm' : 'in' }}</label
      >
      <button class="btn !px-2 !py-0.5" :disabled="!fits">Take the reading</button>
    </div>
    <input
      v-model="note"
      class="field w-full"
      maxlength="80"
      placeholder="where it was taken"
      aria-label="Where it was taken"
      @keydown.enter.stop
    />
    <p v-if="reading" :class="reading.apart ? 'note' : 'text-soft'">
      {{ reading.says }}
      <button type="button" class="underline" @click="emit('read', null)">Take it out</button>
    </p>
  </form>
</template>
