<script setup lang="ts">
import { Dialog, DialogPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'
import type { Tool } from '../kinds/kind'
import { findTools } from '../kinds/registry'
import { useRoom } from '../state/room'

const room = useRoom()
const emit = defineEmits<{ close: [] }>()
const text = ref('')
const at = ref(0)
const found = computed(() => findTools(text.value, room))
function start(t: Tool | undefined) {
  if (!t || t.needs(room)) return
  room.hand.start(t)
  emit('close')
}
</script>

<template>
  <Dialog :open="true" class="fixed inset-0 z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/15" aria-hidden="true" />
    <DialogPanel
      class="fixed left-1/2 top-16 w-[420px] -translate-x-1/2 rounded-sm border border-ink bg-sheet p-2"
    >
      <input
        v-model="text"
        class="field w-full !py-2"
        placeholder="Find a tool"
        aria-label="Find a tool"
        @keydown.down.prevent="at = Math.min(at + 1, found.length - 1)"
        @keydown.up.prevent="at = Math.max(at - 1, 0)"
        @keydown.enter.stop.prevent="start(found[at])"
        @input="at = 0"
      />
      <ul class="mt-2">
        <li v-for="(t, i) in found" :key="t.id">
          <button
            class="flex w-full items-baseline gap-2 rounded-sm px-2 py-1.5 text-left disabled:opacity-45"
            :class="{ 'bg-held': i === at }"
            :disabled="!!t.needs(room)"
            @click="start(t)"
          >
            <b class="font-semibold">{{ t.name }}</b><span class="text-soft">{{
              t.needs(room) ?? t.says
            }}</span>
          </button>
        </li>
        <li v-if="!found.length" class="px-2 py-1.5 text-soft">No tool is called that.</li>
      </ul>
    </DialogPanel>
  </Dialog>
</template>
