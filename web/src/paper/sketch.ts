/** The drawing on the paper: its trace, its cutting plane, and what the server makes of strokes. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import type { Schemas, StoneDetail, Trace } from '../api/types'
import { useDetails } from '../state/details'
import { useHand } from '../state/hand'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'

type Drawing = Pick<
  Schemas['SketchStep'],
  'scan' | 'frame' | 'axis' | 'height' | 'strokes' | 'relations' | 'sizes'
>
type Told = Schemas['SketchTold']
type Relation = Drawing['relations'][number]
export type Refused = Relation & { cost: number }
type Proposed = Pick<Drawing, 'strokes' | 'sizes'> & { relations: Refused[]; refused: Refused[] }

const NORMAL = {
  x: { n: [1, 0, 0], u: [0, 1, 0], v: [0, 0, 1] },
  y: { n: [0, 1, 0], u: [0, 0, 1], v: [1, 0, 0] },
  z: { n: [0, 0, 1], u: [1, 0, 0], v: [0, 1, 0] },
}

export const useSketch = defineStore('sketch', () => {
  const j = useJob()
  const hand = useHand()
  const shown = useShown()
  const details = useDetails()
  const trace = shallowRef<Trace | null>(null)
  const tool = ref<'line' | 'arc' | 'circle' | null>(null)
  const refused = ref<Refused[]>([])
  const drawing = ref(false)
  const costs = ref<Record<string, number>>({})
  const laid = shallowRef<StoneDetail | null>(null)

  /** The drawing that is made, where one is in hand. */
  const mine = computed(() => (hand.kind?.paper ? (hand.record as unknown as Drawing) : null))
  /** The laid drawing that is looked at. */
  const looked = computed(() => {
    if (hand.held) return null
    const all = j.given('sketch')
    return all.find((s) => s.id === shown.chosen) ?? all.at(-1) ?? null
  })
  watch(
    () => [looked.value?.id, looked.value?.key],
    async () => {
      const s = looked.value
      laid.value = null
      if (!s || !j.job) return
      const got = await details.stone(j.job.id, s.id).catch(() => null)
      if (looked.value?.id === s.id) laid.value = got
    },
    { immediate: true },
  )
  const record = computed(() => mine.value ?? (laid.value?.record as unknown as Drawing | undefined) ?? null)
  const summary = computed<Told | null>(() => {
    if (mine.value) return mine.value.strokes.length ? (hand.told as unknown as Told | null) : null
    return (laid.value?.summary as unknown as Told | undefined) ?? null
  })

  const cut = computed(() => {
    const r = record.value
    const t = trace.value
    if (!r || !t) return null
    const { n, u, v } = NORMAL[r.axis]
    const to = (p: number[]) => [0, 1, 2].map((k) => n[k] * r.height + u[k] * p[0] + v[k] * p[1])
    return { origin: n.map((c) => c * r.height), normal: n, loops: t.loops.map((l) => l.points.map(to)) }
  })

  // The newest plane wins; one question at a time, so that dragging never queues up.
  let asking = false
  let again = false
  async function cutNow() {
    const r = record.value
    if (!r || !j.job) return
    if (asking) {
      again = true
      return
    }
    asking = true
    try {
      trace.value = await j.ask<Trace>('/trace', where(r))
    } catch (e) {
      hand.error = (e as Error).message
    } finally {
      asking = false
      if (again) {
        again = false
        cutNow()
      }
    }
  }
  watch(
    () => [
      record.value?.axis,
      record.value?.height,
      record.value?.frame,
      record.value?.scan,
      j.job?.revision,
    ],
    cutNow,
    { immediate: true },
  )

  function accept(got: Proposed) {
    const r = mine.value!
    r.strokes = got.strokes
    r.relations = got.relations.map((x) => ({ kind: x.kind, of: x.of }))
    r.sizes = got.sizes
    refused.value = got.refused
    costs.value = Object.fromEntries(got.relations.map((x) => [x.kind + x.of.join(), x.cost]))
    hand.tryIt(0)
  }
  const where = (r: Drawing) => ({ scan: r.scan, frame: r.frame, axis: r.axis, height: r.height })
  async function run(path: string, more: Record<string, unknown>) {
    drawing.value = true
    hand.error = ''
    try {
      accept(await j.ask<Proposed>(path, { ...where(mine.value!), ...more }))
    } catch (e) {
      hand.error = (e as Error).message
    } finally {
      drawing.value = false
    }
  }
  const drawAll = () => run('/sketch/draw', {})
  const brush = (path: number[][], radius: number) =>
    run('/sketch/brush', { strokes: mine.value!.strokes, brush: path, radius, kind: tool.value })
  function remove(id: string) {
    const r = mine.value!
    const strokes = r.strokes
      .filter((s) => s.id !== id)
      .map((s) => (s.joins === id ? { ...s, joins: null } : s))
    if (strokes.length) return run('/sketch/draw', { strokes })
    Object.assign(r, { strokes: [], relations: [], sizes: [] })
  }
  const editing = computed(() => !!mine.value)
  return { trace, tool, refused, costs, drawing, record, summary, cut, editing, drawAll, brush, remove }
})
