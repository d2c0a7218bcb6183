<script setup lang="ts">
/** Keeping what is looked at as a proof; proofs renamed, compared two at a time, handed on as files. */
import { Download } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { useProving } from '../../check/proving'
import { mm } from '../../state/format'
import { useRoom } from '../../state/room'
import { useTaking } from '../../state/taking'

const { job: j, shown } = useRoom()
const p = useProving()
const name = ref('')
const saved = ref(false)
watch(
  [() => p.check?.id, () => shown.proof?.id],
  () => {
    name.value = shown.proof?.name ?? p.check?.name ?? ''
    saved.value = false
  },
  { immediate: true },
)
async function keep() {
  saved.value = await j.act('POST', '/proofs', { step: p.check!.id, name: name.value })
}
async function rename() {
  const now = shown.proof!
  if (await j.act('PATCH', `/proofs/${now.id}`, { name: name.value }))
    shown.proof = { ...now, name: name.value }
}
async function remove() {
  const { id } = shown.proof!
  if (await j.act('DELETE', `/proofs/${id}`)) p.leave()
}
const others = computed(() => (j.job?.proofs ?? []).filter((q) => q.id !== shown.proof?.id))
const other = ref<number | null>(null)
const first = ref<number | null>(null)
watch(
  others,
  (list) => {
    const known = (id: number | null) => list.some((q) => q.id === id)
    if (known(other.value) && known(first.value) && other.value !== first.value) return
    other.value = list[0]?.id ?? null
    first.value = list[1]?.id ?? null
  },
  { immediate: true },
)
/** The earlier one is the first. */
function compare() {
  const a = shown.proof?.id ?? first.value
  if (a === null || other.value === null) return
  p.compare(Math.min(a, other.value), Math.max(a, other.value))
}
const FILES = [
  ['report.pdf', 'Report, PDF'],
  ['points.csv', 'Points, CSV'],
  ['table.csv', 'Faces, CSV'],
  ['map.ply', 'Mesh, PLY'],
  ['map.glb', 'Mesh, GLB'],
  ['view.png', 'Picture, PNG'],
  ['proof.json', 'All it says, JSON'],
]
const { taking, failed, take } = useTaking()
const address = (what: string) => `/api/jobs/${j.job!.id}/proofs/${shown.proof!.id}/files/${what}`
</script>

<template>
  <section class="section" aria-label="Proofs">
    <template v-if="shown.proof">
      <h3>This proof</h3>
      <form class="mt-1.5 flex gap-1.5" @submit.prevent="rename">
        <input v-model="name" class="field min-w-0 flex-1" aria-label="Name of the proof" maxlength="120" />
        <button class="btn">Rename</button>
      </form>
      <ul class="mt-2 grid grid-cols-2 gap-1" aria-label="Files of the proof">
        <li v-for="[what, words] in FILES" :key="what">
          <a
            class="slot !px-1.5 hover:border-ink"
            :href="address(what)"
            download
            :aria-busy="taking === address(what)"
            @click.prevent="take(address(what), `${shown.proof.name} ${what}`)"
          >
            <Download :size="13" aria-hidden="true" /><span class="truncate">{{
              taking === address(what) ? 'writing it' : words
            }}</span>
          </a>
        </li>
      </ul>
      <p v-if="failed" class="note mt-1.5" role="alert">{{ failed }}</p>
    </template>
    <template v-else-if="p.check">
      <h3>Keep as a proof</h3>
      <form class="mt-1.5 flex gap-1.5" @submit.prevent="keep">
        <input v-model="name" class="field min-w-0 flex-1" aria-label="Name of the proof" maxlength="120" />
        <button class="btn">Keep proof</button>
      </form>
      <p v-if="saved" class="mt-1 text-moss" role="status">Kept. It is in the yard under Proofs.</p>
    </template>
    <form
      v-if="shown.proof ? others.length : others.length > 1"
      class="mt-2 flex flex-wrap items-center gap-1.5"
      aria-label="Compare proofs"
      @submit.prevent="compare"
    >
      <select v-if="!shown.proof" v-model="first" class="field min-w-0 basis-full" aria-label="First proof">
        <option v-for="q in others" :key="q.id" :value="q.id">{{ q.name }} {{ mm(q.rms) }}</option>
      </select>
      <span class="text-soft">{{ shown.proof ? 'Compare with' : 'with' }}</span>
      <select v-model="other" class="field min-w-0 flex-1" aria-label="Other proof">
        <option v-for="q in others" :key="q.id" :value="q.id">{{ q.name }} {{ mm(q.rms) }}</option>
      </select>
      <button class="btn" :disabled="other === null || (!shown.proof && (first === null || first === other))">
        Compare
      </button>
    </form>
    <button v-if="shown.proof" class="mt-2 text-soft underline" @click="remove">Throw this proof away</button>
  </section>
</template>
