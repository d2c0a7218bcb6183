<script setup lang="ts">
import { Trash2, Upload } from 'lucide-vue-next'
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, send, type Brought, type JobCard } from '../api/client'
import Mark from '../shell/Mark.vue'

const router = useRouter()
const jobs = ref<JobCard[] | null>(null)
const error = ref('')
const over = ref(false)
const share = ref<number | null>(null)
const brought = ref<Brought | null>(null)
const units = ref('mm')
const name = ref('')
const starting = ref(false)
const input = ref<HTMLInputElement | null>(null)
const UNITS: [string, string][] = [['mm', 'millimetres'], ['cm', 'centimetres'], ['m', 'metres'], ['in', 'inches']]

const load = async () => {
  try {
    jobs.value = await call<JobCard[]>('GET', '/jobs')
  } catch (e) {
    error.value = (e as Error).message
  }
}
onMounted(load)

async function bring(file: File | undefined) {
  if (!file) return
  error.value = ''
  brought.value = null
  share.value = 0
  try {
    brought.value = await send(file, (s) => (share.value = s))
    name.value = file.name.replace(/\.[^.]+$/, '')
  } catch (e) {
    error.value = (e as Error).message
  } finally {
    share.value = null
    if (input.value) input.value.value = ''
  }
}

function drop(e: DragEvent) {
  over.value = false
  bring(e.dataTransfer?.files[0])
}

async function start() {
  starting.value = true
  try {
    const { id } = await call<{ id: number }>('POST', '/jobs', { upload: brought.value!.upload, units: units.value, name: name.value })
    router.push(`/jobs/${id}`)
  } catch (e) {
    error.value = (e as Error).message
  } finally {
    starting.value = false
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
      <Mark /><h1 class="text-[15px] font-semibold">Deft Mason</h1>
      <span class="text-soft">Jobs</span>
    </header>
    <main class="mx-auto grid min-h-0 w-full max-w-[1180px] flex-1 grid-cols-[1fr_340px] gap-8 overflow-y-auto px-6 py-7">
      <section aria-label="Jobs">
        <p v-if="jobs?.length === 0" class="text-soft">No jobs yet. Bring in a scan to start one.</p>
        <ul class="grid grid-cols-2 gap-5">
          <li v-for="job in jobs ?? []" :key="job.id" class="group relative overflow-hidden rounded-sm border border-rule bg-sheet hover:border-ink">
            <RouterLink :to="`/jobs/${job.id}`" class="block">
              <img :src="job.picture" alt="" class="h-[216px] w-full border-b border-rule bg-ground object-cover" />
              <div class="px-3.5 py-3">
                <h2>{{ job.name }}</h2>
                <p class="text-soft">{{ job.says }}</p>
                <p class="fig mt-1.5 text-soft">{{ job.size ?? '' }}</p>
              </div>
            </RouterLink>
            <span v-if="job.demo" class="absolute left-2 top-2 rounded-sm bg-sheet px-1.5 py-0.5 text-[11px] text-soft">demo</span>
            <button v-if="job.mine" class="btn absolute right-2 top-2 !px-1.5 opacity-0 focus:opacity-100 group-hover:opacity-100" :aria-label="`Throw away ${job.name}`" :title="`Throw away ${job.name}`" @click="remove(job)"><Trash2 :size="15" /></button>
          </li>
        </ul>
      </section>
      <section aria-label="Start a job" class="space-y-4">
        <h2>Start a job</h2>
        <label
          class="flex h-40 cursor-pointer flex-col items-center justify-center gap-2 rounded-sm border border-dashed bg-sheet text-center focus-within:border-saffron"
          :class="over ? 'border-saffron' : 'border-soft'"
          @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop"
        >
          <Upload :size="22" aria-hidden="true" />
          <span><b>Drop a scan here</b> or choose a file</span>
          <span class="text-soft">STL, PLY or OBJ mesh</span>
          <input ref="input" type="file" class="sr-only" accept=".stl,.ply,.obj" aria-label="Choose a scan file" @change="bring(($event.target as HTMLInputElement).files?.[0])" />
        </label>
        <div v-if="share !== null" role="status">
          <div class="h-1.5 bg-rule"><div class="h-full bg-saffron" :style="{ width: `${share * 100}%` }" /></div>
          <p class="mt-1 text-soft">{{ share < 1 ? 'Sending the file' : 'Reading the mesh' }}</p>
        </div>
        <p v-if="error" class="note-bad" role="alert">{{ error }}</p>
        <form v-if="brought" class="space-y-3 rounded-sm border border-rule bg-sheet p-4" @submit.prevent="start">
          <p><b>{{ brought.name }}</b>, {{ brought.triangles.toLocaleString('en') }} triangles</p>
          <label class="block">Name <input v-model="name" class="field mt-1 w-full" maxlength="120" required /></label>
          <fieldset>
            <legend>The file's numbers are in</legend>
            <div class="mt-1 flex gap-1.5">
              <button v-for="[u, word] in UNITS" :key="u" type="button" class="btn flex-1 !px-1" :class="{ 'btn-on': units === u }" :aria-pressed="units === u" :title="word" @click="units = u">{{ u }}</button>
            </div>
          </fieldset>
          <p>So the part measures <span class="fig block">{{ brought.sizes[units] }}</span></p>
          <p v-for="w in brought.warnings" :key="w" class="note">{{ w }}</p>
          <button class="btn-main w-full" :disabled="starting">{{ starting ? 'Starting' : 'Start the job' }}</button>
        </form>
        <p class="text-soft">The file stays as it is, with its checksum. Everything you lay on it can be changed later.</p>
      </section>
    </main>
  </div>
</template>
