<script setup lang="ts">
/** Help on what is in hand, or on the tool pointed at: what it asks for, what can be set, what it gives. */
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { computed } from 'vue'
import type { StepRecord } from '../api/types'
import { fieldsOf } from '../kinds/fields'
import { kindOf } from '../kinds/registry'
import { useBelt } from '../state/belt'
import { usePointed } from '../state/pointed'
import { useRoom } from '../state/room'
import { useSchemas } from '../state/schemas'

const emit = defineEmits<{ close: [] }>()
const room = useRoom()
const pointed = usePointed()
const schemas = useSchemas()
const belt = useBelt()
/** As it was when help was asked for: the card itself takes the pointer off the tool. */
const under = pointed.tool
const tool = computed(() => (room.hand.kind ? null : under))
const kind = computed(() => room.hand.kind ?? (tool.value ? kindOf(tool.value.kind) : undefined))
/** What words need a record for is said of the one in hand, or of one as it would be taken up. */
const record = computed(() => {
  if (room.hand.record) return room.hand.record
  try {
    return tool.value && !tool.value.needs(room) ? tool.value.record(room) : null
  } catch {
    return null
  }
})
const text = (t: string | ((r: never, room: never) => string)) => {
  if (typeof t === 'string') return t
  return record.value ? t(record.value as never, room as never) : ''
}
const title = computed(() => tool.value?.name ?? (kind.value ? text(kind.value.title) : ''))
const says = computed(() => (kind.value ? text(kind.value.says) : ''))
const asks = computed(() => {
  const slots = Object.values(kind.value?.slots ?? {})
  return slots.map((s) => text(s.says)).filter(Boolean)
})
const fields = computed(() => {
  const schema = kind.value && schemas.value[kind.value.kind]
  if (!schema) return []
  const all = schema.schema.properties
  return fieldsOf(all, (record.value ?? { kind: '', name: '' }) as StepRecord).map((f) => ({
    label: f.label,
    says: all[f.key]?.description ?? '',
  }))
})
const gives = computed(() => (kind.value && schemas.value[kind.value.kind]?.produces) || '')
const key = computed(() => (tool.value ? belt.place(tool.value.id) : 0))
</script>

<template>
  <Dialog :open="true" class="fixed inset-0 z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/15" aria-hidden="true" />
    <DialogPanel class="help-card" data-help>
      <template v-if="kind">
        <DialogTitle as="h2">{{ title }}</DialogTitle>
        <p class="mt-1">{{ says }}</p>
        <p class="mt-1 text-soft">
          {{ kind.stage }}<template v-if="gives"> · gives a {{ gives }}</template
          ><template v-if="key"> · on the belt, key {{ key }}</template>
        </p>
        <p v-if="tool?.needs(room)" class="note mt-2">{{ tool.needs(room) }}</p>
        <div class="mt-3 min-h-0 flex-1 space-y-3 overflow-y-auto">
          <section v-if="asks.length">
            <h3>It asks for</h3>
            <ul class="mt-1 space-y-0.5">
              <li v-for="a in asks" :key="a">{{ a }}.</li>
            </ul>
          </section>
          <section v-if="fields.length">
            <h3>What can be set</h3>
            <dl class="mt-1 space-y-1.5">
              <div v-for="f in fields" :key="f.label">
                <dt class="font-semibold">{{ f.label }}</dt>
                <dd class="text-soft">{{ f.says }}</dd>
              </div>
            </dl>
          </section>
          <section>
            <h3>Hands</h3>
            <p class="mt-1">Enter lays it, Esc drops it, Ctrl+Z takes it back; all keys with ?</p>
          </section>
        </div>
      </template>
      <template v-else>
        <DialogTitle as="h2">Help on a tool</DialogTitle>
        <p class="mt-1">
          Point at a tool, or take one up, then press H: it says what it asks for and what it gives.
        </p>
      </template>
      <button class="btn mt-4 self-start" @click="emit('close')">Close</button>
    </DialogPanel>
  </Dialog>
</template>
