<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

const emit = defineEmits<{ close: [] }>()
const KEYS: [string, string][] = [
  ['/', 'find a tool'],
  ['Enter', 'lay what is in hand'],
  ['Esc', 'drop it, then clear picks'],
  ['Space', 'swap scan and model'],
  ['D', 'deviation colours on or off'],
  ['A', 'show the chosen one alone'],
  ['L', 'the whole ledger'],
  ['X', 'a section through scan and model'],
  ['F', 'fit the view'],
  [', and .', 'view back and forward'],
  ['[ and ]', 'tighten or widen the rule'],
  ['1 to 8', 'tools of the belt'],
  ['Ctrl+Z', 'undo'],
  ['Ctrl+Shift+Z', 'redo'],
  ['B held and drag', 'brush while marking'],
  ['left drag', 'orbit'],
  ['right or Shift drag', 'pan'],
  ['wheel', 'zoom at the pointer'],
  ['H', 'help on the tool in hand or pointed at'],
  ['?', 'this list'],
]
</script>

<template>
  <Dialog :open="true" class="fixed inset-0 z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/15" aria-hidden="true" />
    <DialogPanel
      class="fixed left-1/2 top-20 w-[440px] -translate-x-1/2 rounded-sm border border-ink bg-sheet p-5"
    >
      <DialogTitle as="h2">All keys</DialogTitle>
      <dl class="mt-3 grid grid-cols-[150px_1fr] gap-y-1.5">
        <template v-for="[k, says] in KEYS" :key="k"
          ><dt class="fig">{{ k }}</dt>
          <dd>{{ says }}</dd></template
        >
      </dl>
      <button class="btn mt-4" @click="emit('close')">Close</button>
    </DialogPanel>
  </Dialog>
</template>
