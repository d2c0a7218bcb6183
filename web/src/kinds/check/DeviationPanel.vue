<script setup lang="ts">
/** The deviation on show: legend, statistics, faces to blame, and keeping it as a proof. */
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Tide from '../../check/Tide.vue'
import { mm, signed } from '../../state/format'
import { useRoom } from '../../state/room'

type Told = Schemas['DeviationTold']
const { job: j, shown } = useRoom()
const s = computed(() => (shown.proof ? (shown.proof.summary as unknown as Told) : j.toldOf<Told>(j.check)))
const title = computed(() => shown.proof?.name ?? j.check?.name ?? '')
const name = ref('')
const saved = ref(false)
const laidTolerance = () => (j.check?.told.tolerance as number | undefined) ?? 0.1
watch(
  () => [j.check?.key, shown.proof?.id],
  () => {
    shown.tolerance = shown.proof ? ((shown.proof.settings.tolerance as number) ?? 0.1) : laidTolerance()
    name.value = j.check?.name ?? ''
    saved.value = false
  },
  { immediate: true },
)
const share = (n: number, of: number) => (of ? `${((100 * n) / of).toFixed(1)} %` : '–')
/** The share within the handles: exact where they are as laid, else read off the histogram. */
const within = computed(() => {
  const t = s.value
  if (!t?.histogram) return null
  const band = shown.tolerance
  if (Math.abs(band - t.tolerance) < 1e-9) return t.within ?? null
  let inside = 0
  let all = 0
  t.histogram.counts.forEach((c, i) => {
    const [a, b] = [t.histogram.edges[i], t.histogram.edges[i + 1]]
    all += c
    inside += (c * Math.max(0, Math.min(b, band) - Math.max(a, -band))) / (b - a)
  })
  return all ? inside / all : null
})
const faces = computed(() =>
  [...(s.value?.faces ?? [])]
    .filter((f) => f.points > 20)
    .sort((a, b) => (b.p95 ?? 0) - (a.p95 ?? 0))
    .slice(0, 8),
)
async function keep() {
  saved.value = await j.act('POST', '/proofs', { step: j.check!.id, name: name.value })
}
function back() {
  shown.proof = null
  shown.tolerance = laidTolerance()
}
const says = computed(() =>
  shown.proof
    ? `A proof kept ${new Date(shown.proof.created).toLocaleString('en')}`
    : 'The scan against the model, to its true surface.',
)
</script>

<template>
  <template v-if="s">
    <header class="px-3.5 pb-2 pt-3">
      <h2>{{ title }}</h2>
      <p class="text-soft">{{ says }}</p>
      <button v-if="shown.proof" class="mt-1 underline" @click="back">Back to the job as it is</button>
    </header>
    <section class="section">
      <Tide
        v-if="s.histogram"
        :histogram="s.histogram"
        :tolerance="shown.tolerance"
        @tolerance="shown.tolerance = $event"
      />
      <button v-if="!shown.show.tide" class="btn mt-2 w-full" @click="shown.show.tide = true">
        Show the colours <kbd class="fig ml-2 text-soft">D</kbd>
      </button>
      <dl class="mt-2 grid grid-cols-[110px_1fr] gap-y-1" data-statistics>
        <dt>within ± {{ mm(shown.tolerance) }}</dt>
        <dd class="fig text-right" data-figure="within">
          {{ within === null ? '–' : `${(100 * within).toFixed(1)} %` }}
        </dd>
        <dt>mean</dt>
        <dd class="fig text-right">{{ signed(s.mean) }}</dd>
        <dt>rms</dt>
        <dd class="fig text-right" data-figure="rms">{{ mm(s.rms) }}</dd>
        <dt>95 % under</dt>
        <dd class="fig text-right">{{ mm(s.p95) }}</dd>
        <dt>most</dt>
        <dd class="fig text-right">{{ signed(s.min) }} {{ signed(s.max) }}</dd>
        <dt>no answer</dt>
        <dd class="fig text-right">{{ share(s.points - s.answered, s.points) }}</dd>
        <dt>unseen area</dt>
        <dd class="fig text-right">{{ s.unseen_area.toFixed(0) }} mm²</dd>
      </dl>
    </section>
    <section v-if="!shown.proof" class="section">
      <h3>Keep as a proof</h3>
      <form class="mt-1.5 flex gap-1.5" @submit.prevent="keep">
        <input
          v-model="name"
          class="field min-w-0 flex-1"
          aria-label="Name of the proof"
          maxlength="120"
        /><button class="btn">Keep proof</button>
      </form>
      <p v-if="saved" class="mt-1 text-moss" role="status">Kept. It is in the yard under Proofs.</p>
    </section>
    <section class="section">
      <h3>Faces farthest off</h3>
      <table class="mt-1 w-full text-[11.5px]">
        <thead class="text-soft">
          <tr>
            <th class="text-left font-normal">face</th>
            <th class="text-right font-normal">mean</th>
            <th class="text-right font-normal">95 %</th>
            <th class="text-right font-normal">in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="f in faces" :key="f.face">
            <td class="max-w-[130px] truncate py-0.5" :title="`${f.face}, ${f.kind}, ${f.points} points`">
              {{ f.face }}
            </td>
            <td class="fig text-right">{{ signed(f.mean) }}</td>
            <td class="fig text-right">{{ mm(f.p95) }}</td>
            <td class="fig text-right">{{ Math.round(100 * (f.within ?? 0)) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
  <header v-else class="px-3.5 pb-2 pt-3">
    <h2>Check</h2>
    <p class="text-soft">
      {{
        j.check ? 'Fetching the deviation.' : 'Nothing is checked yet. Measure the scan against the model.'
      }}
    </p>
  </header>
</template>
