<script setup lang="ts">
import { Trash2 } from 'lucide-vue-next'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, sent } from '../api/client'
import type { JobCard } from '../api/types'
import Mark from '../shell/Mark.vue'
import ThemeButton from '../shell/ThemeButton.vue'
import Bring from './Bring.vue'
import JobPicture from './JobPicture.vue'

const router = useRouter()
const jobs = ref<JobCard[] | null>(null)
const error = ref('')
const name = ref('')
const guided = computed(() => jobs.value?.find((job) => job.guided))
const starting = ref(false)

const load = async () => {
  try {
    jobs.value = await call<JobCard[]>('GET', '/jobs')
  } catch (e) {
    error.value = (e as Error).message
  }
}
/** The demo's finished job may still be on its way when the page is first opened. */
const again = window.setInterval(() => {
  if (!document.hidden) load()
}, 5000)
onMounted(load)
onBeforeUnmount(() => window.clearInterval(again))

async function start(scans: Record<string, unknown>[], file: string) {
  starting.value = true
  error.value = ''
  try {
    const { id } = await call<{ id: number }>('POST', '/jobs', { scans, name: name.value.trim() || file })
    router.push(`/jobs/${id}`)
  } catch (e) {
    error.value = (e as Error).message
  } finally {
    starting.value = false
  }
}

/** A job that begins with a capture. */
async function capture() {
  error.value = ''
  try {
    const begun = await call<{ id: number; capture: number }>('POST', '/captures', {
      name: name.value.trim(),
    })
    router.push({ path: `/jobs/${begun.id}`, query: { capture: begun.capture } })
  } catch (e) {
    error.value = (e as Error).message
  }
}

const share = ref<number | null>(null)
/** A recipe that was handed on with its scans, opened as a job. */
async function openRecipe(e: Event) {
  const box = e.target as HTMLInputElement
  const file = box.files?.[0]
  if (!file) return
  error.value = ''
  share.value = 0
  try {
    const { id } = await sent<{ id: number }>('/recipes', file, (s) => (share.value = s))
    router.push(`/jobs/${id}`)
  } catch (why) {
    error.value = (why as Error).message
  } finally {
    share.value = null
    box.value = ''
  }
}

async function remove(job: JobCard) {
  if (!window.confirm(`Throw away "${job.name}" with its history? This cannot be undone.`)) return
  await call('DELETE', `/jobs/${job.id}`)
  await load()
}
</script>

<template>
  <div class="flex h-full flex-col">
    <header class="flex h-12 shrink-0 items-center gap-3 border-b border-rule bg-sheet px-4">
      <Mark />
      <h1 class="text-[15px] font-semibold">Deft Mason</h1>
      <span class="flex-1 text-soft">Jobs</span>
      <RouterLink class="text-soft hover:text-ink" to="/service">For scripts</RouterLink>
      <ThemeButton />
    </header>
    <main class="shelf-page flex-1 overflow-y-auto px-6 py-7">
      <section aria-label="Jobs">
        <p v-if="jobs?.length === 0" class="text-soft">No jobs yet. Bring in a scan to start one.</p>
        <ul class="grid grid-cols-2 gap-5">
          <li
            v-for="job in jobs ?? []"
            :key="job.id"
            class="group relative overflow-hidden rounded-sm border border-rule bg-sheet hover:border-ink"
          >
            <RouterLink :to="`/jobs/${job.id}`" class="block">
              <JobPicture :src="job.picture" />
              <div class="px-3.5 py-3">
                <h2>{{ job.name }}</h2>
                <p class="text-soft">{{ job.says }}</p>
                <p class="fig mt-1.5 text-soft">{{ job.size ?? '' }}</p>
              </div>
            </RouterLink>
            <span
              v-if="job.demo"
              class="absolute left-2 top-2 rounded-sm bg-sheet px-1.5 py-0.5 text-[11px] text-soft"
              >demo</span
            >
            <button
              v-if="job.mine"
              class="btn absolute right-2 top-2 !px-1.5 opacity-0 focus:opacity-100 group-hover:opacity-100"
              :aria-label="`Throw away ${job.name}`"
              :title="`Throw away ${job.name}`"
              @click="remove(job)"
            >
              <Trash2 :size="15" />
            </button>
          </li>
        </ul>
      </section>
      <section aria-label="Start a job" class="space-y-4">
        <p v-if="guided" class="note">
          <RouterLink :to="`/jobs/${guided.id}`" class="underline">New here: {{ guided.name }}</RouterLink>
          leads from a scan to its model, each step looked at as you go.
        </p>
        <h2>Start a job</h2>
        <Bring :action="starting ? 'Starting' : 'Start the job'" @ready="start">
          <label class="block"
            >Name
            <input
              v-model="name"
              class="field mt-1 w-full"
              maxlength="120"
              placeholder="as the first file"
              aria-label="Name of the job"
          /></label>
        </Bring>
        <p v-if="error" class="note-bad" role="alert">{{ error }}</p>
        <p class="text-soft">
          Files stay as they are, with their checksums. Everything you lay on it can be changed later.
        </p>
        <h2 class="pt-3">Begin with a device</h2>
        <button class="btn w-full" @click="capture">Capture a part with an arm or a table</button>
        <h2 class="pt-3">Go on with a job from elsewhere</h2>
        <p v-if="share !== null" class="text-soft" role="status">
          {{ share < 1 ? `Sending ${Math.round(100 * share)} %` : 'Opening the recipe' }}
        </p>
        <label v-else class="btn w-full cursor-pointer focus-within:border-saffron">
          Open a recipe with its scans
          <input class="sr-only" type="file" accept=".zip" aria-label="Open a recipe" @change="openRecipe" />
        </label>
      </section>
    </main>
  </div>
</template>
