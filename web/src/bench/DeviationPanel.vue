<script setup lang="ts">
/** The deviation on show: legend, statistics, faces to blame, and keeping it as a proof. */
import { computed, ref, watch } from 'vue'
import Tide from '../check/Tide.vue'
import { mm, signed } from '../state/format'
import { useJob } from '../state/job'

const j = useJob()
const s = computed<any>(() => j.proof?.summary ?? j.check?.summary)
const title = computed(() => j.proof?.name ?? j.check?.name ?? '')
const name = ref('')
const saved = ref(false)
watch(() => [j.check?.key, j.proof?.id], () => {
  j.tolerance = (j.proof ? (j.proof.settings as any).tolerance : (j.check?.record as any)?.tolerance) ?? 0.1
  name.value = j.check?.name ?? ''
  saved.value = false
}, { immediate: true })
const share = (n: number, of: number) => (of ? `${((100 * n) / of).toFixed(1)} %` : '–')
const within = computed(() => {
  const h = s.value?.histogram
  if (!h) return null
  const exact = Math.abs(j.tolerance - s.value.tolerance) < 1e-9
  if (exact) return s.value.within as number
  let inside = 0, all = 0
  h.counts.forEach((c: number, i: number) => {
    const a = h.edges[i], b = h.edges[i + 1]
    all += c
    inside += (c * Math.max(0, Math.min(b, j.tolerance) - Math.max(a, -j.tolerance))) / (b - a)
  })
  return all ? inside / all : null
})
const faces = computed(() => [...(s.value?.faces ?? [])].filter((f: any) => f.points > 20).sort((a: any, b: any) => b.p95 - a.p95).slice(0, 8))
async function keep() {
  saved.value = await j.act('POST', '/proofs', { step: j.check!.id, name: name.value })
}
function back() {
  j.proof = null
  j.tolerance = (j.check?.record as any)?.tolerance ?? 0.1
}
</script>

<template>
  <header class="px-3.5 pb-2 pt-3">
    <h2>{{ title }}</h2>
    <p class="text-soft">{{ j.proof ? `A proof kept ${new Date(j.proof.created).toLocaleString('en')}` : 'The scan against the model, to its true surface.' }}</p>
    <button v-if="j.proof" class="mt-1 underline" @click="back">Back to the job as it is</button>
  </header>
  <section class="section">
    <Tide v-if="s?.histogram" :histogram="s.histogram" :tolerance="j.tolerance" @tolerance="j.tolerance = $event" />
    <button v-if="!j.show.tide" class="btn mt-2 w-full" @click="j.show.tide = true">Show the colours  D</button>
    <dl class="mt-2 grid grid-cols-[110px_1fr] gap-y-1" data-statistics>
      <dt>within ± {{ mm(j.tolerance) }}</dt><dd class="fig text-right" data-figure="within">{{ within === null ? '–' : `${(100 * within).toFixed(1)} %` }}</dd>
      <dt>mean</dt><dd class="fig text-right">{{ signed(s.mean) }}</dd>
      <dt>rms</dt><dd class="fig text-right" data-figure="rms">{{ mm(s.rms) }}</dd>
      <dt>95 % under</dt><dd class="fig text-right">{{ mm(s.p95) }}</dd>
      <dt>most</dt><dd class="fig text-right">{{ signed(s.min) }} {{ signed(s.max) }}</dd>
      <dt>no answer</dt><dd class="fig text-right">{{ share(s.points - s.answered, s.points) }}</dd>
      <dt>unseen area</dt><dd class="fig text-right">{{ s.unseen_area.toFixed(0) }} mm²</dd>
    </dl>
  </section>
  <section v-if="!j.proof" class="section">
    <h3>Keep as a proof</h3>
    <form class="mt-1.5 flex gap-1.5" @submit.prevent="keep"><input v-model="name" class="field min-w-0 flex-1" aria-label="Name of the proof" maxlength="120" /><button class="btn">Keep proof</button></form>
    <p v-if="saved" class="mt-1 text-moss" role="status">Kept. It is in the yard under Proofs.</p>
  </section>
  <section class="section">
    <h3>Faces farthest off</h3>
    <table class="mt-1 w-full text-[11.5px]">
      <thead class="text-soft"><tr><th class="text-left font-normal">face</th><th class="text-right font-normal">mean</th><th class="text-right font-normal">95 %</th><th class="text-right font-normal">in</th></tr></thead>
      <tbody><tr v-for="f in faces" :key="f.face"><td class="max-w-[130px] truncate py-0.5" :title="`${f.face}, ${f.kind}, ${f.points} points`">{{ f.face }}</td><td class="fig text-right">{{ signed(f.mean) }}</td><td class="fig text-right">{{ mm(f.p95) }}</td><td class="fig text-right">{{ Math.round(100 * f.within) }}</td></tr></tbody>
    </table>
  </section>
</template>
