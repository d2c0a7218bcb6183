/** Other pieces of the job's part: what the recipe says of each, what they share, the nominal of them all. */
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { call } from '../api/client'
import type { Schemas } from '../api/types'
import { useJob } from '../state/job'

export type PieceLine = Schemas['PieceLine']
export type SizeLine = Schemas['SizeLine']

export const usePieces = defineStore('pieces', () => {
  const j = useJob()
  const view = shallowRef<Schemas['PiecesView'] | null>(null)
  const error = ref('')
  /** The piece whose own values stand in the table. */
  const chosen = ref<number | null>(null)
  /** Names of the values that are to take a nominal, each with the number it would take. */
  const ticked = reactive(new Map<string, number>())
  const pieces = computed(() => view.value?.pieces ?? [])
  const sizes = computed(() => view.value?.sizes ?? [])
  const on = computed(() => pieces.value.find((p) => p.id === chosen.value) ?? pieces.value[0] ?? null)
  const path = () => `/jobs/${j.job!.id}/pieces`

  async function load() {
    const id = j.job?.id
    if (!id) return void (view.value = null)
    try {
      const got = await call<Schemas['PiecesView']>('GET', path())
      if (id === j.job?.id) view.value = got
    } catch (e) {
      error.value = (e as Error).message
    }
  }
  /** Another job's pieces are others; what is under way, and what changed, is asked for again. */
  watch(
    () => j.job?.id,
    () => {
      view.value = null
      chosen.value = null
      ticked.clear()
      load()
    },
    { immediate: true },
  )
  watch(
    () => `${j.job?.revision} ${j.running.map((t) => `${t.id}${t.state}`).join()}`,
    () => j.job && load(),
  )

  async function act(method: string, more = '', body?: unknown) {
    error.value = ''
    try {
      view.value = await call<Schemas['PiecesView']>(method, path() + more, body)
      await j.refresh()
      return true
    } catch (e) {
      error.value = (e as Error).message
      return false
    }
  }
  const bring = (scan: string, scans: Record<string, unknown>[]) => act('POST', '', { scan, scans })
  const run = () => act('POST', '/run')
  const takeOut = (p: PieceLine) => act('DELETE', `/${p.id}`)
  const ownJob = (p: PieceLine) => call<{ id: number }>('POST', `${path()}/${p.id}/job`)

  const best = (s: SizeLine) => s.offers[0]?.value ?? s.mean
  function tick(s: SizeLine) {
    if (!ticked.delete(s.name)) ticked.set(s.name, best(s))
  }
  /** Every value that all pieces share, or most, and that may be chosen. */
  function tickShared() {
    for (const s of sizes.value)
      if (!s.fixed && (s.agreement === 'same' || s.agreement === 'most')) ticked.set(s.name, best(s))
  }
  async function layNominal() {
    const values = [...ticked].map(([name, value]) => ({ name, value }))
    if (await j.act('POST', '/pieces/nominal', { values })) {
      ticked.clear()
      await load()
    }
  }
  return {
    view,
    error,
    chosen,
    ticked,
    pieces,
    sizes,
    on,
    load,
    bring,
    run,
    takeOut,
    ownJob,
    tick,
    tickShared,
    layNominal,
  }
})
