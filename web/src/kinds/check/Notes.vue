<script setup lang="ts">
/** Notes pinned to places, and views kept, with the check they belong to; both go into its proof. */
import { computed, ref, watch } from 'vue'
import { Matrix4, Vector3 } from 'three'
import type { Schemas, StepRecord } from '../../api/types'
import { partWords, useProving } from '../../check/proving'
import { useDetails } from '../../state/details'
import { signed } from '../../state/format'
import { useRoom } from '../../state/room'
import { matrix4 } from '../../view3d/stone'
import { pinned } from './pinned'

type Record = Schemas['CheckStep']
const { job: j, shown } = useRoom()
const p = useProving()
const details = useDetails()
const record = ref<Record | null>(null)
/** Changes on their way, and the last of them. */
let laying = 0
let last: Promise<unknown> = Promise.resolve()
async function read() {
  const id = p.check?.id
  if (!id || !j.job || laying) return
  const whole = await details.stone(j.job.id, id).catch(() => null)
  if (whole && p.check?.id === id && !laying) record.value = whole.record as unknown as Record
}
watch(
  [() => p.check?.id, () => j.job?.revision],
  ([id], [before]) => {
    if (id !== before) record.value = null
    return read()
  },
  { immediate: true },
)
const views = computed(() => (shown.proof ? shown.proof.views : (record.value?.views ?? [])))
/**
 * The check's record laid again with other notes or views: nothing is measured anew. What is changed while it
 * is laid is laid after it, on top.
 */
async function keep(change: Partial<Record>) {
  if (!record.value) return
  const next = (record.value = { ...record.value, ...change })
  laying++
  last = last.then(() => j.act('POST', '/stones', { step: next as unknown as StepRecord }))
  await last
  if (!--laying) await read()
}
// A click on the colours while notes are placed: in the scan's own coordinates from there on.
watch(pinned, (at) => {
  if (!at || !record.value || !p.told) return
  pinned.value = null
  const base = p.check?.inputs.some((i) => j.byId.get(i)?.produces === 'frame')
    ? new Matrix4()
    : matrix4(j.matrix)
  const back = base.multiply(matrix4(p.told.matrix)).invert()
  const place = new Vector3(...at).applyMatrix4(back).toArray()
  keep({ pins: [...record.value.pins, { place, text: '' }] })
})
const write = (k: number, text: string) =>
  keep({ pins: record.value!.pins.map((q, i) => (i === k ? { ...q, text } : q)) })
const remove = (k: number) => keep({ pins: record.value!.pins.filter((_, i) => i !== k) })
function snapshot() {
  const at = shown.looking()
  if (at)
    keep({ views: [...views.value, { name: `View ${views.value.length + 1}`, ...at }] as Record['views'] })
}
const rename = (k: number, name: string) =>
  name.trim() &&
  keep({ views: record.value!.views.map((v, i) => (i === k ? { ...v, name: name.trim() } : v)) })
const drop = (k: number) => keep({ views: record.value!.views.filter((_, i) => i !== k) })
const text = (e: Event) => (e.target as HTMLInputElement).value
</script>

<template>
  <section v-if="p.check || shown.proof" class="section" aria-label="Notes and views">
    <div class="flex items-baseline justify-between gap-2">
      <h3>Notes and views</h3>
      <span v-if="!shown.proof" class="flex gap-2">
        <button
          class="underline"
          :aria-pressed="p.pinning"
          @click="((p.pinning = !p.pinning), (shown.show.tide = true))"
        >
          {{ p.pinning ? 'No more notes' : 'Pin a note' }}
        </button>
        <button class="underline" @click="snapshot">Keep this view</button>
      </span>
    </div>
    <p v-if="p.pinning" class="mt-1 text-soft">Click a place on the colours.</p>
    <ol class="mt-1" aria-label="Notes">
      <li v-for="(q, k) in p.pins" :key="`${k} ${q.place}`" class="flex items-center gap-1.5 py-px">
        <button
          class="fig w-[64px] shrink-0 text-right underline"
          :title="partWords(q.face)"
          @click="shown.lookAt(q.shown, 0.2 * (p.told?.size || 40), true)"
        >
          {{ k + 1 }} {{ q.value === null ? 'none' : signed(q.value) }}
        </button>
        <span v-if="shown.proof" class="min-w-0 flex-1 truncate">{{ q.text }}</span>
        <template v-else>
          <input
            class="field min-w-0 flex-1 !py-0.5"
            :value="q.text"
            maxlength="200"
            :aria-label="`Text of note ${k + 1}`"
            :placeholder="partWords(q.face)"
            @change="write(k, text($event))"
          />
          <button class="text-soft underline" :aria-label="`Take out note ${k + 1}`" @click="remove(k)">
            out
          </button>
        </template>
      </li>
    </ol>
    <ol class="mt-1" aria-label="Views">
      <li v-for="(v, k) in views" :key="k" class="flex items-center gap-1.5 py-px">
        <button class="w-[64px] shrink-0 text-right underline" @click="shown.looked = { ...v } as never">
          look
        </button>
        <span v-if="shown.proof" class="min-w-0 flex-1 truncate">{{ v.name }}</span>
        <template v-else>
          <input
            class="field min-w-0 flex-1 !py-0.5"
            :value="v.name"
            maxlength="80"
            :aria-label="`Name of view ${k + 1}`"
            @change="rename(k, text($event))"
          />
          <button class="text-soft underline" :aria-label="`Take out view ${k + 1}`" @click="drop(k)">
            out
          </button>
        </template>
      </li>
    </ol>
  </section>
</template>
