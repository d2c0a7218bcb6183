<script setup lang="ts">
/** One field of a generated form. */
import type { Stone } from '../api/types'
import type { FormField } from '../kinds/fields'
import { typed } from '../state/format'

const props = defineProps<{ field: FormField; value: unknown; stones: Stone[] }>()
const emit = defineEmits<{ set: [value: unknown] }>()
/** A number within its limits; what is none puts back what was there. */
function number(e: Event) {
  const at = e.target as HTMLInputElement
  const { min, max, is, none } = props.field
  if (at.value.trim() === '' && none) return emit('set', null)
  const v = typed(at.value)
  const sound = v !== null && (min === undefined || v >= min) && (max === undefined || v <= max)
  if (!sound) return void (at.value = String(props.value ?? ''))
  emit('set', is === 'whole number' ? Math.round(v) : v)
}
</script>

<template>
  <div
    v-if="field.is === 'choice'"
    class="mt-1.5 flex gap-1.5"
    role="group"
    :aria-label="field.label"
    :title="field.help"
  >
    <button
      v-for="[v, name] in field.choices"
      :key="v"
      class="btn flex-1 !px-1"
      :class="{ 'btn-on': value === v }"
      :aria-pressed="value === v"
      @click="emit('set', v)"
    >
      {{ name }}
    </button>
  </div>
  <label v-else-if="field.is === 'yes or no'" class="mt-1.5 flex items-center gap-2" :title="field.help">
    <input type="checkbox" class="accent-[#23262A]" :checked="!!value" @change="emit('set', !value)" />
    {{ field.label }}
  </label>
  <label v-else-if="field.is === 'stone'" class="slot mt-1.5" :title="field.help">
    <span class="w-[84px] text-soft">{{ field.label }}</span>
    <select
      class="min-w-0 flex-1 bg-transparent font-semibold"
      :aria-label="field.label"
      :value="value ?? ''"
      @change="emit('set', ($event.target as HTMLSelectElement).value || null)"
    >
      <option v-if="field.none" value="">none</option>
      <option v-for="s in stones" :key="s.id" :value="s.id">{{ s.name }}</option>
    </select>
  </label>
  <label v-else class="mt-1.5 flex items-center gap-2" :title="field.help">
    <span class="w-[104px]">{{ field.label }}</span>
    <input
      v-if="field.is !== 'text'"
      type="number"
      class="field fig w-20"
      :value="value"
      :step="field.step ?? 'any'"
      :min="field.min"
      :max="field.max"
      @change="number"
    />
    <input
      v-else
      class="field min-w-0 flex-1"
      :value="value"
      @change="emit('set', ($event.target as HTMLInputElement).value)"
    />
    <span class="text-soft">{{ value === null && field.empty ? field.empty : field.unit }}</span>
  </label>
</template>
