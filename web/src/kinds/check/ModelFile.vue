<script setup lang="ts">
/** A model made elsewhere, brought in to be compared with. */
import { ref } from 'vue'
import { call, send } from '../../api/client'
import { useRoom } from '../../state/room'

const { job: j } = useRoom()
const error = ref('')
const share = ref<number | null>(null)
async function bring(e: Event) {
  const box = e.target as HTMLInputElement
  const file = box.files?.[0]
  if (!file) return
  error.value = ''
  share.value = 0
  try {
    const got = await send(file, (s) => (share.value = s))
    await call('POST', `/jobs/${j.job!.id}/models`, { upload: got.upload })
    await j.refresh()
  } catch (why) {
    error.value = (why as Error).message
  } finally {
    share.value = null
    box.value = ''
  }
}
</script>

<template>
  <section class="section" aria-label="Foreign model">
    <h3>A model made elsewhere</h3>
    <p v-if="share !== null" class="mt-1 text-soft" role="status">
      {{ share < 1 ? `Sending ${Math.round(100 * share)} %` : 'Reading the model' }}
    </p>
    <label v-else class="btn mt-1.5 w-full cursor-pointer focus-within:border-saffron">
      Bring in STEP, IGES or B-rep
      <input
        class="sr-only"
        type="file"
        accept=".step,.stp,.iges,.igs,.brep"
        aria-label="Bring in a model"
        @change="bring"
      />
    </label>
    <p v-if="error" class="note mt-1.5" role="alert">{{ error }}</p>
  </section>
</template>
