<script setup lang="ts">
/** One field of a generated form. */
import { computed } from 'vue'
import type { Stone } from '../api/types'
import type { FormField } from '../kinds/fields'
import { typed } from '../state/format'

const props = defineProps<{ field: FormField; value: unknown; stones: Stone[] }>()
const emit = defineEmits<{ set: [value: unknown] }>()
const asScan = { value: null, source: 'rounded' }
/** What stands in the field: a chosen number is a record of its own. */
const figure = computed(() =>
  props.field.is === 'chosen'
    ? ((props.value as { value?: number | null } | null)?.value ?? null)
    : props.value,
)
const several = computed(() => (props.value as string[] | null) ?? [])
const toggle = (id: string) =>
  emit('set', several.value.includes(id) ? several.value.filter((x) => x !== id) : [...several.value, id])
/** A number within its limits; what is none puts back what was there. */
function number(e: Event) {
  const at = e.target as HTMLInputElement
  const { min, max, is, none } = props.field
  if (at.value.trim() === '' && (none || is === 'chosen')) return emit('set', is === 'chosen' ? asScan : null)
  const v = typed(at.value)
  if (is === 'chosen' && v !== null) return emit('set', { value: v, source: 'typed' })
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
    <input type="checkbox" class="accent-ink" :checked="!!value" @change="emit('set', !value)" />
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
      <option v-if="field.none" value="">{{ field.empty || 'none' }}</option>
      <option v-for="s in stones" :key="s.id" :value="s.id">{{ s.name }}</option>
    </select>
  </label>
  <fieldset
    v-else-if="field.is === 'stones'"
    class="mt-1.5 rounded-sm border border-rule bg-white px-2 py-1"
    :title="field.help"
  >
    <legend class="px-1 text-soft">{{ field.label }}</legend>
    <label v-for="s in stones" :key="s.id" class="flex items-center gap-2 py-0.5">
      <input type="checkbox" class="accent-ink" :checked="several.includes(s.id)" @change="toggle(s.id)" />{{
        s.name
      }}
    </label>
    <p v-if="!stones.length" class="text-soft">There is none yet.</p>
  </fieldset>
  <label v-else class="mt-1.5 flex items-center gap-2" :title="field.help">
    <span class="w-[104px]">{{ field.label }}</span>
    <input
      v-if="field.is !== 'text'"
      v-typing
      type="number"
      class="field fig w-20"
      :aria-label="field.label"
      :value="figure"
      :step="field.step ?? 'any'"
      :min="field.min"
      :max="field.max"
      @change="number"
    />
    <input
      v-else
      v-typing
      class="field min-w-0 flex-1"
      :value="value"
      @change="emit('set', ($event.target as HTMLInputElement).value)"
    />
    <span class="text-soft">{{ figure === null && field.empty ? field.empty : field.unit }}</span>
  </label>
</template>
