/** The sketch being drawn: its trace, its cutting plane, and what the server makes of strokes. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import type { Trace } from '../api/client'
import { useJob } from '../state/job'

const NORMAL: Record<string, { n: number[]; u: number[]; v: number[] }> = {
  x: { n: [1, 0, 0], u: [0, 1, 0], v: [0, 0, 1] },
  y: { n: [0, 1, 0], u: [0, 0, 1], v: [1, 0, 0] },
  z: { n: [0, 0, 1], u: [1, 0, 0], v: [0, 1, 0] },
}

export const useSketch = defineStore('sketch', () => {
  const j = useJob()
  const trace = shallowRef<Trace | null>(null)
  const took = ref(0)
  const tool = ref<'line' | 'arc' | 'circle' | null>(null)
  const refused = ref<{ kind: string; of: string[]; cost: number }[]>([])
  const drawing = ref(false)
  const shownId = computed(() => {
    if (j.hand?.kind === 'sketch') return null
    const sketches = j.stones.filter((s) => s.produces === 'sketch' && j.done(s))
    return (sketches.find((s) => s.id === j.chosenStone) ?? sketches[sketches.length - 1])?.id ?? null
  })
  /** The record whose plane is shown: what is in hand, or the laid sketch looked at. */
  const record = computed<Record<string, any> | null>(() => (j.hand?.kind === 'sketch' ? j.hand.record : shownId.value ? (j.byId.get(shownId.value)!.record as any) : null))
  const summary = computed<any>(() => (j.hand?.kind === 'sketch' ? (j.hand.record.strokes.length ? j.preview?.summary : null) : shownId.value ? j.byId.get(shownId.value)!.summary : null))

  const cut = computed(() => {
    const r = record.value, t = trace.value
    if (!r || !t) return null
    const { n, u, v } = NORMAL[r.axis]
    const to = (p: number[]) => [0, 1, 2].map((k) => n[k] * r.height + u[k] * p[0] + v[k] * p[1])
    return { origin: n.map((c) => c * r.height), normal: n, loops: t.loops.map((l: any) => l.points.map(to)) as number[][][] }
  })

  // The newest plane wins; one question at a time, so that dragging never queues up.
  let asking = false
  let again = false
  async function cutNow() {
    const r = record.value
    if (!r || !j.job) return
    if (asking) { again = true; return }
    asking = true
    const begin = performance.now()
    try {
      trace.value = await j.ask<Trace>('/trace', { scan: r.scan, frame: r.frame, axis: r.axis, height: r.height })
      took.value = performance.now() - begin
    } catch (e) {
      j.handError = (e as Error).message
    } finally {
      asking = false
      if (again) { again = false; cutNow() }
    }
  }
  watch(() => [record.value?.axis, record.value?.height, record.value?.frame, j.job?.revision, shownId.value, !!j.hand], cutNow, { immediate: true })

  function accept(got: any) {
    const r = j.hand!.record
    r.strokes = got.strokes
    r.relations = got.relations.map((x: any) => ({ kind: x.kind, of: x.of }))
    r.sizes = got.sizes
    refused.value = got.refused
    costs.value = Object.fromEntries(got.relations.map((x: any) => [x.kind + x.of.join(), x.cost]))
    j.tryIt(0)
  }
  const costs = ref<Record<string, number>>({})
  const where = () => { const r = j.hand!.record; return { scan: r.scan, frame: r.frame, axis: r.axis, height: r.height } }
  async function run(path: string, body: unknown) {
    drawing.value = true
    j.handError = ''
    try {
      accept(await j.ask<any>(path, body))
    } catch (e) {
      j.handError = (e as Error).message
    } finally {
      drawing.value = false
    }
  }
  const drawAll = () => run('/sketch/draw', where())
  const brush = (path: number[][], radius: number) => run('/sketch/brush', { ...where(), strokes: j.hand!.record.strokes, brush: path, radius, kind: tool.value })
  function remove(id: string) {
    const strokes = j.hand!.record.strokes.filter((s: any) => s.id !== id).map((s: any) => (s.joins === id ? { ...s, joins: null } : s))
    if (strokes.length) run('/sketch/draw', { ...where(), strokes })
    else Object.assign(j.hand!.record, { strokes: [], relations: [], sizes: [] })
  }
  return { trace, took, tool, refused, costs, drawing, record, summary, cut, drawAll, brush, remove, cutNow }
})
