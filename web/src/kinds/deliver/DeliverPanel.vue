<script setup lang="ts">
/** What is handed on: each file by a click, or those that are ticked as one pack. */
import { Download } from 'lucide-vue-next'
import { computed, reactive, ref, watch } from 'vue'
import { call } from '../../api/client'
import type { Schemas } from '../../api/types'
import Working from '../../bench/Working.vue'
import { count, mm, typed } from '../../state/format'
import { useRoom } from '../../state/room'
import { useStudy } from '../../state/studies'
import { useTaking } from '../../state/taking'
import { goodsOf, GROUPS, type Good } from './goods'
import TransferPanel from './TransferPanel.vue'

const room = useRoom()
const { job: j } = room
const goods = computed(() => goodsOf(room))
const label = (g: Good) => `${g.what} ${g.step ?? ''}`
const WAYS = [
  ['files', 'Files'],
  ['pack', 'As a pack'],
  ['transfer', 'To a program'],
] as const
const way = ref<(typeof WAYS)[number][0]>('files')
const packing = computed(() => way.value === 'pack')
const ticked = reactive(
  new Set<string>(['model.step ', 'scan.ply ', 'elements.step ', 'drawing.pdf ', 'model.py ']),
)
const proofs = reactive(new Set<number>())
const within = ref<number | null>(null)
const lighter = ref<number | null>(null)
const triangles = ref<number | null>(null)
const error = ref('')
watch([within, () => j.body?.key, () => j.job?.id], async () => {
  triangles.value = null
  error.value = ''
  if (!within.value || !j.body) return
  const asked = within.value
  try {
    const got = await call<{ triangles: number }>('GET', `/jobs/${j.job!.id}/triangles?within=${asked}`)
    if (asked === within.value) triangles.value = got.triangles
  } catch (e) {
    error.value = (e as Error).message
  }
})
/** Datums and drawings that stay here; all go by themselves. */
const held = reactive(new Set<string>())
const elements = computed(() => [...j.given('datum'), ...j.given('sketch')])
const going = computed(() => elements.value.filter((s) => !held.has(s.id)))
/** Only these, where not all go. */
const only = (g: Good) =>
  g.what === 'elements.step' && going.value.length < elements.value.length ? going.value.map((s) => s.id) : []
const holdBack = (id: string) => held.delete(id) || held.add(id)
const lengthOf = (g: Good) => (!g.triangles ? null : g.group === 'scan' ? lighter.value : within.value)
function address(g: Good) {
  const asked = new URLSearchParams()
  if (g.step) asked.set('step', g.step)
  const length = lengthOf(g)
  if (length) asked.set('within', String(length))
  if (only(g).length) asked.set('elements', only(g).join())
  const more = asked.toString()
  return `/api/jobs/${j.job!.id}/deliver/${g.what}${more ? `?${more}` : ''}`
}
const { taking, failed: untaken, take } = useTaking()
/** A drawing goes by its stone's name. */
const nameOf = (g: Good) => (g.step ? `${g.name.replace(', ', '.').toLowerCase()}` : g.what)
function tick(g: Good) {
  if (!ticked.delete(label(g))) ticked.add(label(g))
}
function tickProof(id: number) {
  if (!proofs.delete(id)) proofs.add(id)
}
const offOf = (g: Good) =>
  g.off || (g.what === 'elements.step' && !going.value.length ? 'tick an element below' : '')
const chosen = computed(() => goods.value.filter((g) => !offOf(g) && ticked.has(label(g))))
const { running, error: failed, run, stop } = useStudy<Schemas['PackView']>('/packs')
const made = ref<Schemas['PackView'] | null>(null)
watch(
  [() => j.job?.revision, () => [...ticked].join(), () => [...proofs].join(), () => [...held].join()],
  () => (made.value = null),
)
async function pack() {
  const list = chosen.value.map((g) => ({
    what: g.what,
    step: g.step ?? null,
    within: lengthOf(g),
    elements: only(g),
  }))
  const there = (j.job?.proofs ?? []).map((p) => p.id).filter((id) => proofs.has(id))
  made.value = await run({ goods: list, proofs: there })
}
const number = (e: Event) => {
  const v = typed((e.target as HTMLInputElement).value)
  return v && v > 0 && v <= 1000 ? v : null
}
</script>

<template>
  <header class="px-3.5 pb-2 pt-3">
    <h2>Deliver</h2>
    <p class="text-soft">Open formats, all in the same coordinates, mm.</p>
    <div class="mt-2 flex gap-1" role="group" aria-label="Handed on">
      <button
        v-for="[key, words] in WAYS"
        :key="key"
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': way === key }"
        :aria-pressed="way === key"
        @click="way = key"
      >
        {{ words }}
      </button>
    </div>
  </header>
  <TransferPanel v-if="way === 'transfer'" />
  <section
    v-for="[key, title] in way === 'transfer' ? [] : GROUPS"
    :key="key"
    class="section"
    :aria-label="title"
  >
    <h3>{{ title }}</h3>
    <p v-if="key === 'scan'" class="mt-0.5 text-soft">
      {{ j.frame ? 'In the frame, where the model is.' : 'In its own coordinates; no frame is set yet.' }}
    </p>
    <label v-if="key === 'model' || key === 'scan'" class="mt-1 flex items-center gap-2">
      <span class="text-soft">{{ key === 'model' ? 'triangles within' : 'lighter copy within' }}</span>
      <input
        class="field fig w-16"
        type="number"
        min="0"
        step="any"
        :placeholder="key === 'model' ? 'fine' : 'all'"
        :aria-label="key === 'model' ? 'Triangles within' : 'Lighter copy within'"
        @change="key === 'model' ? (within = number($event)) : (lighter = number($event))"
      />
      <span class="text-soft">mm</span>
      <span v-if="key === 'model' && triangles !== null" class="fig ml-auto" data-figure="triangles">{{
        count(triangles)
      }}</span>
    </label>
    <ul class="mt-1.5 grid grid-cols-2 gap-1">
      <li v-for="g in goods.filter((q) => q.group === key)" :key="label(g)" class="min-w-0">
        <label
          v-if="packing"
          class="slot !items-start !px-2"
          :class="offOf(g) ? 'opacity-50' : 'cursor-pointer hover:border-ink'"
          :title="offOf(g) || g.says"
        >
          <input
            type="checkbox"
            class="mt-0.5 accent-ink"
            :checked="!offOf(g) && ticked.has(label(g))"
            :disabled="!!offOf(g)"
            @change="tick(g)"
          /><span class="min-w-0 truncate">{{ g.name }}</span>
        </label>
        <component
          :is="offOf(g) ? 'span' : 'a'"
          v-else
          class="slot !items-start flex-col !gap-0 !px-2"
          :class="offOf(g) ? 'opacity-50' : 'hover:border-ink'"
          :href="offOf(g) ? undefined : address(g)"
          :download="offOf(g) ? undefined : ''"
          :title="offOf(g) || g.says"
          :aria-busy="taking === address(g)"
          @click.prevent="offOf(g) || take(address(g), nameOf(g))"
        >
          <b class="flex w-full items-center gap-1.5 font-semibold"
            ><Download :size="12" class="shrink-0" aria-hidden="true" /><span class="truncate"
              ><span class="sr-only">{{ `${title}: ` }}</span
              >{{ g.name }}</span
            ></b
          ><span class="block w-full truncate text-[11px] text-soft">{{
            offOf(g) || (taking === address(g) ? 'writing it' : g.says)
          }}</span>
        </component>
      </li>
    </ul>
    <details v-if="key === 'drawings' && elements.length" class="mt-1.5" data-which>
      <summary class="cursor-pointer text-soft">
        Elements go: {{ going.length === elements.length ? 'all' : going.length }} of {{ elements.length }}
      </summary>
      <ul class="mt-1 grid grid-cols-2 gap-x-2">
        <li v-for="s in elements" :key="s.id" class="min-w-0">
          <label class="flex items-center gap-1.5">
            <input
              type="checkbox"
              class="accent-ink"
              :checked="!held.has(s.id)"
              @change="holdBack(s.id)"
            /><span class="min-w-0 truncate" :title="s.name">{{ s.name }}</span>
          </label>
        </li>
      </ul>
    </details>
  </section>
  <section v-if="packing && j.job?.proofs.length" class="section" aria-label="Proofs in the pack">
    <h3>Proofs</h3>
    <label v-for="p in j.job.proofs" :key="p.id" class="mt-1 flex items-center gap-2">
      <input type="checkbox" class="accent-ink" :checked="proofs.has(p.id)" @change="tickProof(p.id)" /><span
        class="min-w-0 flex-1 truncate"
        >{{ p.name }}</span
      ><span class="fig text-soft">{{ mm(p.rms) }}</span>
    </label>
  </section>
  <section v-if="packing" class="section sticky bottom-0 bg-sheet" aria-label="Pack">
    <Working v-if="running" :at="running" @stop="stop" />
    <a
      v-else-if="made"
      class="btn-main w-full"
      :href="`/api/jobs/${j.job!.id}/packs/${made.pack}`"
      download
      data-pack
      >Take the pack, {{ (made.bytes / 1e6).toFixed(1) }} MB</a
    >
    <button v-else class="btn-main w-full" :disabled="!chosen.length && !proofs.size" @click="pack">
      Pack {{ chosen.length + proofs.size }} things
    </button>
    <p v-if="failed" class="note mt-1.5" role="alert">{{ failed }}</p>
  </section>
  <p v-if="error || untaken" class="note mx-3.5" role="alert">{{ error || untaken }}</p>
</template>
