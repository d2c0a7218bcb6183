<script setup lang="ts">
import { ref } from 'vue'
import { call } from '../api/client'
import type { Who } from '../api/types'

const emit = defineEmits<{ done: [who: Who] }>()
const name = ref('')
const password = ref('')
const error = ref('')

async function go() {
  try {
    emit('done', await call<Who>('POST', '/session', { name: name.value, password: password.value }))
  } catch (e) {
    error.value = (e as Error).message
  }
}
</script>

<template>
  <main class="grid h-full place-items-center">
    <form class="w-80 space-y-3 rounded-sm border border-rule bg-sheet p-6" @submit.prevent="go">
      <h1 class="text-lg font-semibold">Deft Mason</h1>
      <label class="block"
        >Name <input v-model="name" class="field mt-1 w-full" autocomplete="username" required
      /></label>
      <label class="block"
        >Password
        <input
          v-model="password"
          class="field mt-1 w-full"
          type="password"
          autocomplete="current-password"
          required
      /></label>
      <p v-if="error" class="note-bad" role="alert">{{ error }}</p>
      <button class="btn-main w-full">Log in</button>
    </form>
  </main>
</template>
