<script setup lang="ts">
/** The deviation on show: legend and numbers, who is to blame, notes, keeping it, and proofs compared. */
import { computed } from 'vue'
import Tide from '../../check/Tide.vue'
import { partWords, useProving } from '../../check/proving'
import { mm, signed } from '../../state/format'
import { useRoom } from '../../state/room'
import Blame from './Blame.vue'
import ComparedProofs from './ComparedProofs.vue'
import FormAndPlace from './FormAndPlace.vue'
import Keeping from './Keeping.vue'
import ModelFile from './ModelFile.vue'
import Notes from './Notes.vue'

const { job: j, shown } = useRoom()
const p = useProving()
const s = computed(() => p.told)
const title = computed(() => shown.proof?.name ?? p.check?.name ?? '')
const waits = computed(() =>
  j.stones.filter((t) => t.produces === 'deviation' && t.status === 'pending').at(-1),
)
const share = (n: number, of: number) => (of ? `${((100 * n) / of).toFixed(1)} %` : '–')
/** The share within the handles: exact where they are as laid, else read off the histogram. */
const within = computed(() => {
  const t = s.value
  if (!t) return null
  if (Math.abs(p.high - t.tolerance) < 1e-9 && Math.abs(p.low - (t.low ?? t.tolerance)) < 1e-9)
    return t.within ?? null
  let inside = 0
  let all = 0
  t.histogram.counts.forEach((c, i) => {
    const [a, b] = [t.histogram.edges[i], t.histogram.edges[i + 1]]
    all += c
    inside += (c * Math.max(0, Math.min(b, p.high) - Math.max(a, -p.low))) / (b - a)
  })
  return all ? inside / all : null
})
function band(side: 1 | -1, value: number, both: boolean) {
  if (side > 0 || both) p.high = value
  if (side < 0 || both) p.low = value
}
const beside = computed(() => (s.value?.beside?.length ? `Together with ${s.value.beside.join(', ')}. ` : ''))
const says = computed(() =>
  shown.proof
    ? `A proof kept ${new Date(shown.proof.created).toLocaleString('en')}`
    : `${beside.value}Against ${s.value?.against || 'the model'}${s.value?.on_model ? ', to its true surface' : ''}.`,
)
const allowed = computed(() => (p.high === p.low ? `± ${mm(p.high)}` : `+ ${mm(p.high)} − ${mm(p.low)}`))
</script>

<template>
  <ComparedProofs v-if="p.comparing" />
  <template v-else-if="s">
    <header class="px-3.5 pb-2 pt-3">
      <h2>{{ title }}</h2>
      <p class="text-soft">{{ says }}</p>
      <button v-if="shown.proof" class="mt-1 underline" @click="p.leave()">Back to the job as it is</button>
    </header>
    <section class="section" aria-label="Numbers">
      <Tide :histogram="s.histogram" :high="p.high" :low="p.low" @band="band" />
      <button v-if="!shown.show.tide" class="btn mt-2 w-full" @click="shown.show.tide = true">
        Show the colours <kbd class="fig ml-2 text-soft">D</kbd>
      </button>
      <div v-else-if="s.on_model" class="mt-2 flex gap-1.5" role="group" aria-label="Shown on">
        <button
          v-for="on in ['scan', 'model'] as const"
          :key="on"
          class="btn flex-1"
          :class="{ 'btn-on': p.on === on }"
          :aria-pressed="p.on === on"
          @click="p.on = on"
        >
          On the {{ on }}
        </button>
      </div>
      <p v-if="p.on === 'model' && shown.show.tide && s.on_model" class="mt-1 text-[11px] text-soft">
        Hatched: no scan lies near, the model stands on faith.
      </p>
      <dl class="mt-2 grid grid-cols-[50px_1fr_64px_1fr] gap-x-2 gap-y-[3px]" data-statistics>
        <dt :title="`within ${allowed}`">within</dt>
        <dd class="fig text-right" data-figure="within">
          {{ within === null ? '–' : `${(100 * within).toFixed(1)} %` }}
        </dd>
        <dt>no answer</dt>
        <dd class="fig text-right" data-figure="no answer">{{ share(s.points - s.answered, s.points) }}</dd>
        <dt>mean</dt>
        <dd class="fig text-right" data-figure="mean">{{ signed(s.mean) }}</dd>
        <dt>spread</dt>
        <dd class="fig text-right">{{ mm(s.spread) }}</dd>
        <dt>rms</dt>
        <dd class="fig text-right" data-figure="rms">{{ mm(s.rms) }}</dd>
        <dt title="95 % lie nearer than this">95 %</dt>
        <dd class="fig text-right" data-figure="p95">{{ mm(s.p95) }}</dd>
        <dt>least</dt>
        <dd class="fig text-right" data-figure="least">{{ signed(s.min) }}</dd>
        <dt>most</dt>
        <dd class="fig text-right" data-figure="most">{{ signed(s.max) }}</dd>
        <template v-if="s.on_model">
          <dt class="col-span-2" title="Model area no scan is near">unseen area</dt>
          <dd class="fig col-span-2 text-right" data-figure="unseen">{{ s.unseen_area.toFixed(0) }} mm²</dd>
        </template>
      </dl>
    </section>
    <section v-if="s.rules.length" class="section" aria-label="Rules">
      <h3>Rules</h3>
      <ul class="mt-1">
        <li v-for="r in s.rules" :key="r.name" class="flex items-baseline gap-2 py-px" data-rule>
          <span class="min-w-0 flex-1 truncate" :title="r.faces.map(partWords).join('; ') || 'all faces'">{{
            r.name
          }}</span>
          <span class="fig text-soft">{{ r.within === null ? '–' : share(r.within, 1) }}</span>
          <b :class="r.passes === null ? 'text-soft' : r.passes ? 'text-moss' : 'text-brick'">{{
            r.passes === null ? 'not judged' : r.passes ? 'passes' : 'fails'
          }}</b>
        </li>
      </ul>
    </section>
    <Blame :told="s" />
    <FormAndPlace :told="s" />
    <Notes />
    <Keeping />
    <ModelFile v-if="!shown.proof" />
  </template>
  <template v-else>
    <header class="px-3.5 pb-2 pt-3">
      <h2>Check</h2>
      <p class="text-soft">
        {{
          j.check
            ? 'Fetching the deviation.'
            : waits
              ? `${waits.name} is being measured.`
              : 'Nothing is checked yet. Measure the scan against the model.'
        }}
      </p>
    </header>
    <Keeping v-if="j.job?.proofs.length" />
    <ModelFile />
  </template>
</template>
