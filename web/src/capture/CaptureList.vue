<script setup lang="ts">
/** The job's captures: begin one, go on with one, or play one again from its file. */
import { Trash2 } from 'lucide-vue-next'
import { ref } from 'vue'
import { useShown } from '../state/shown'
import { useCapture } from './capture'

const cap = useCapture()
const shown = useShown()
const error = ref('')
async function tried(what: () => Promise<unknown>) {
  error.value = ''
  try {
    await what()
    if (cap.on !== null) shown.capture = true
  } catch (e) {
    error.value = (e as Error).message
  }
}
function replay(e: Event) {
  const box = e.target as HTMLInputElement
  const file = box.files?.[0]
  box.value = ''
  if (file) tried(() => cap.replay(file))
}
async function remove(id: number, name: string) {
  if (window.confirm(`Throw away "${name}"? What was handed on of it stays.`))
    await tried(() => cap.remove(id))
}
</script>

<template>
  <section class="section" aria-label="Captures">
    <h3>From a device</h3>
    <ul v-if="cap.list.length" class="mt-1.5 space-y-1">
      <li v-for="c in cap.list" :key="c.id" class="flex items-center gap-2">
        <button class="slot flex-1" @click="tried(async () => cap.open(c.id))">
          <b class="flex-1 text-left font-semibold">{{ c.name }}</b>
          <span class="fig text-soft">{{ c.megabytes.toFixed(1) }} MB</span>
        </button>
        <button class="btn !px-1" :aria-label="`Throw away ${c.name}`" @click="remove(c.id, c.name)">
          <Trash2 :size="13" />
        </button>
      </li>
    </ul>
    <p v-else class="mt-1 text-soft">Touch with a probe and scan with a line scanner, live.</p>
    <button class="btn mt-1.5 w-full" @click="tried(cap.begin)">Begin a capture</button>
    <label class="btn mt-1.5 w-full cursor-pointer focus-within:border-saffron">
      Play a recording again
      <input class="sr-only" type="file" accept=".capture" aria-label="Play a recording" @change="replay" />
    </label>
    <p v-if="error" class="note-bad mt-2" role="alert">{{ error }}</p>
  </section>
</template>
