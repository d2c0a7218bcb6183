<script setup lang="ts">
/**
 * The history sent to another CAD system, feature by feature: how each stands there, its volume here and
 * there, and what is done with one that the other side does not know.
 */
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { Refusal, call } from '../../api/client'
import type { Schemas } from '../../api/types'
import { useRoom } from '../../state/room'

const { job: j, shown } = useRoom()
const at = ref<Schemas['TransferView'] | null>(null)
const error = ref('')
const unknown = ref<string[]>([])
const LOOK = 400 // ms between two looks
let poll = 0
const path = computed(() => `/jobs/${j.job!.id}/transfers`)
/** The kinds of features there are to send. */
const kinds = computed(() => [
  ...new Set(j.stones.filter((s) => s.produces === 'body' || s.produces === 'sketch').map((s) => s.kind)),
])
/** What a look could not say; the next one may. */
const lost = ref('')
let turn = 0
/** The last that was asked says how it stands; one look that fails does not end the following. */
async function asked(method: string, more: string, body?: unknown) {
  const mine = ++turn
  const said = method === 'GET' ? lost : error
  window.clearTimeout(poll)
  said.value = ''
  try {
    const told = await call<Schemas['TransferView']>(method, path.value + more, body)
    if (mine === turn) at.value = told
  } catch (e) {
    if (mine !== turn) return
    said.value = (e as Error).message
    if (e instanceof Refusal && e.status === 404) at.value = null
  }
  if (mine === turn) follow()
}
function follow() {
  if (!at.value || at.value.done) return
  poll = window.setTimeout(() => asked('GET', `/${at.value!.transfer}`), LOOK)
}
const begin = () => asked('POST', '', { unknown: unknown.value })
const answer = (how: string) =>
  asked('POST', `/${at.value!.transfer}/answer`, { how, unknown: unknown.value })
const elements = () => asked('POST', `/${at.value!.transfer}/elements`)
async function finish() {
  turn++
  window.clearTimeout(poll)
  if (at.value) await call('DELETE', `${path.value}/${at.value.transfer}`).catch(() => {})
  at.value = null
}
function teach(kind: string) {
  const had = unknown.value.includes(kind)
  unknown.value = had ? unknown.value.filter((k) => k !== kind) : [...unknown.value, kind]
}
const waits = computed(() => at.value?.features.find((f) => f.id === at.value!.asks) ?? null)
const LOOKS: Record<string, string> = {
  built: 'text-moss',
  'as shape': 'text-inkblue',
  unknown: 'text-rust',
  failed: 'text-brick',
}
const off = (f: Schemas['FeatureView']) =>
  f.here && f.there !== null && f.there !== undefined ? Math.abs(f.there / f.here - 1) : null
const agrees = (f: Schemas['FeatureView']) => {
  const share = off(f)
  return share === null ? '' : share < 1e-6 ? 'same volume' : `${(100 * share).toPrecision(2)} % off`
}
watch(
  () => j.job?.id,
  () => finish(),
)
onBeforeUnmount(() => window.clearTimeout(poll))
</script>

<template>
  <section class="section" aria-label="Transfer">
    <p class="text-soft">
      Each feature is built anew on the other side, one after the other; what it does not know, it asks about.
    </p>
    <details class="mt-2" :open="!!waits">
      <summary class="cursor-pointer text-soft">What the other side does not know</summary>
      <label v-for="k in kinds" :key="k" class="flex items-center gap-2 py-px">
        <input
          type="checkbox"
          class="accent-ink"
          :checked="unknown.includes(k)"
          :aria-label="`Does not know ${k}`"
          @change="teach(k)"
        />{{ k }}
      </label>
    </details>
    <button v-if="!at" class="btn-main mt-2 w-full" :disabled="!j.body" @click="begin">
      Send the history
    </button>
    <template v-else>
      <p class="mt-2" role="status" data-says>{{ at.says }}</p>
      <div v-if="waits" class="note mt-2" role="alert">
        <p>{{ waits.says }}</p>
        <div class="mt-1.5 flex flex-wrap gap-1.5">
          <button class="btn !bg-sheet" @click="answer('shape')">Send as its shape</button>
          <button class="btn !bg-sheet" @click="answer('skip')">Skip it</button>
          <button class="btn !bg-sheet" @click="answer('retry')">Try again</button>
          <button class="btn !bg-sheet" @click="answer('stop')">Stop here</button>
        </div>
      </div>
      <ol class="mt-2" aria-label="Features">
        <li v-for="f in at.features" :key="f.id" class="border-b border-rule py-1" :data-feature="f.name">
          <p class="flex items-baseline gap-2">
            <button class="min-w-0 flex-1 truncate text-left" @click="shown.chosen = f.id">
              {{ f.name }}
            </button>
            <span :class="LOOKS[f.state] ?? 'text-soft'">{{ f.state }}</span>
          </p>
          <p v-if="f.there !== null" class="fig flex justify-between text-soft">
            <span>{{ f.there.toFixed(1) }} mm³</span><span>{{ agrees(f) }}</span>
          </p>
          <p v-else-if="f.says && f.id !== at.asks" class="text-soft">{{ f.says }}</p>
        </li>
      </ol>
      <div v-if="at.done" class="mt-2 flex gap-1.5">
        <button class="btn flex-1" @click="elements">Send elements made since</button>
        <button class="btn" @click="finish">End</button>
      </div>
      <p v-if="at.elements" class="mt-1 text-soft" data-elements>{{ at.elements }} elements were sent.</p>
    </template>
    <p v-if="error || lost" class="note mt-1.5" role="alert">{{ error || lost }}</p>
  </section>
</template>
