/** The job on screen: what the server says of it, what is in hand, what is shown. */
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { Refusal, call, geometry, numbers, study, type JobView, type Preview, type ProofView, type Selected, type Stone } from '../api/client'
import { CLEAN_KINDS, JOIN_KINDS, STAGES, type StageKey } from './stages'

export type Place = { place: [number, number, number]; normal: [number, number, number] }
export type Motions = Record<string, number[][]>
export type Hand = { kind: string; editing: boolean; record: Record<string, any> }

export const useJob = defineStore('job', () => {
  const job = shallowRef<JobView | null>(null)
  const error = ref('')
  const busy = ref(false)
  const stage = ref<StageKey>('Scans')
  const hand = ref<Hand | null>(null)
  const slot = ref<string | null>(null)
  const preview = shallowRef<Preview | null>(null)
  const previewing = ref(false)
  const handError = ref('')
  const lit = shallowRef<Uint32Array | null>(null)
  const litGoes = ref(false)
  const studying = ref<{ progress: number; message: string } | null>(null)
  const tip = ref<string | null>(null)
  const marked = shallowRef<{ count: number; total: number; area: number | null } | null>(null)
  const lines = shallowRef<{ points: number[][]; closed: boolean; colour: string }[]>([])
  const rimClicked = shallowRef<{ at: number } | null>(null)
  const rimOver = ref(-1)
  const movedReach = ref(0)
  const focus = shallowRef<{ place: number[]; size: number } | null>(null)
  const chosenStone = ref<string | null>(null)
  const hidden = reactive(new Set<string>())
  const alone = ref<string | null>(null)
  const show = reactive({ scan: true, model: true, tide: false, after: true, edges: false, moved: false, colours: true, joined: 'scans' as 'scans' | 'mesh' | 'apart' })
  const level = ref<number | null>(null)
  const proof = shallowRef<ProofView | null>(null)
  const tolerance = ref(0.1)
  const inches = ref(localStorage.getItem('mason.units') === 'in')
  watch(inches, (v) => localStorage.setItem('mason.units', v ? 'in' : 'mm'))

  const allStones = computed(() => job.value?.stones ?? [])
  const stones = computed(() => (level.value === null ? allStones.value : allStones.value.slice(0, level.value)))
  const byId = computed(() => new Map(allStones.value.map((s) => [s.id, s])))
  const done = (s: Stone) => s.status === 'sound' || s.status === 'attention'
  const last = (produces: string) => [...stones.value].reverse().find((s) => s.produces === produces && done(s))
  const scans = computed(() => stones.value.filter((s) => s.produces === 'scan' && done(s)))
  /** The scans as they stand: those that no other scan step betters. */
  const tips = computed(() => {
    const used = new Set(stones.value.filter((s) => s.produces === 'scan' && s.status !== 'off').flatMap((s) => s.inputs))
    // Scans merged into one stand behind the merged one.
    for (const m of stones.value.filter((s) => s.kind === 'merge' && done(s)))
      for (const id of Object.keys(motionsOf(m.record.placement as string))) used.add(id)
    return scans.value.filter((s) => !used.has(s.id))
  })
  const motionsOf = (placement: string): Motions => ((byId.value.get(placement)?.summary as any)?.motions ?? {}) as Motions
  /** The scans there are to join, as they stand. */
  const joinScans = computed(() => {
    const used = new Set(stones.value.filter((s) => s.produces === 'scan' && s.kind !== 'merge' && s.status !== 'off').flatMap((s) => s.inputs))
    const after = new Set(stones.value.filter((s) => s.kind === 'merge').map((s) => s.id))
    for (const s of stones.value) if (s.produces === 'scan' && s.inputs.some((i) => after.has(i))) after.add(s.id)
    return scans.value.filter((s) => !used.has(s.id) && !after.has(s.id))
  })
  /** Where the scans are: as the step in hand has them, else as last laid. */
  const placement = computed<{ id: string | null; key: string; summary: any } | null>(() => {
    const h = hand.value
    if (h && ['match', 'settle'].includes(h.kind) && preview.value?.key && preview.value.status !== 'failed') return { id: null, key: preview.value.key, summary: preview.value.summary }
    const under = h && JOIN_KINDS.includes(h.kind) ? h.record.placement : null
    const s = under ? byId.value.get(under) : h?.kind === 'match' ? null : last('placement')
    return s ? { id: s.id, key: s.key!, summary: s.summary } : null
  })
  const joining = computed(() => (hand.value ? JOIN_KINDS.includes(hand.value.kind) : stage.value === 'Join' && joinScans.value.length > 1))
  const merged = computed(() => [...stones.value].reverse().find((s) => s.kind === 'merge' && done(s)) ?? null)
  /** The capture a scan goes back to. */
  function root(id: string): string {
    const s = byId.value.get(id)
    return s && CLEAN_KINDS.includes(s.kind) && s.inputs[0] ? root(s.inputs[0]) : id
  }
  const scan = computed(() => tips.value.find((s) => root(s.id) === tip.value) ?? tips.value[0] ?? null)
  /** The scan the thing in hand works on. */
  const handScan = computed(() => (hand.value?.record.scan ? byId.value.get(hand.value.record.scan) ?? null : null))
  const cleaning = computed(() => !!hand.value && CLEAN_KINDS.includes(hand.value.kind))
  const frame = computed(() => last('frame') ?? null)
  const body = computed(() => last('body') ?? null)
  const check = computed(() => last('deviation') ?? null)
  const matrix = computed<number[][] | null>(() => (frame.value ? (frame.value.summary as any).matrix : null))
  const running = computed(() => job.value?.tasks.filter((t) => t.state === 'running' || t.state === 'waiting') ?? [])
  const pending = computed(() => allStones.value.some((s) => s.status === 'pending'))

  let poll = 0
  function take(view: JobView) {
    job.value = view
    window.clearTimeout(poll)
    if (running.value.length) poll = window.setTimeout(refresh, 450)
  }
  async function refresh() {
    if (!job.value) return
    const id = job.value.id
    try {
      const view = await call<JobView>('GET', `/jobs/${id}`)
      if (job.value?.id === id) take(view)
    } catch (e) {
      error.value = (e as Error).message
      poll = window.setTimeout(refresh, 2500)
    }
  }
  async function open(id: number) {
    close()
    take(await call<JobView>('GET', `/jobs/${id}`))
    stage.value = allStones.value.every((s) => s.course === 'scan') ? (last('placement') ? 'Join' : 'Scans') : 'Build'
    show.joined = merged.value ? 'mesh' : 'scans'
    tip.value = null
    show.tide = false
  }
  function close() {
    window.clearTimeout(poll)
    job.value = null
    drop()
    proof.value = null
    level.value = null
    chosenStone.value = null
    hidden.clear()
    alone.value = null
    error.value = ''
  }

  let lastChange: Promise<unknown> = Promise.resolve()
  /** Ask the server for a change of the recipe as it is shown, one after the other; the answer is the whole job, also where others changed it meanwhile. */
  function changed(method: string, path: string, body?: unknown): Promise<JobView> {
    const id = job.value!.id
    const mine = lastChange.then(() => call<JobView>(method, `/jobs/${id}${path}`, body, undefined, job.value?.id === id ? job.value.revision : undefined))
    lastChange = mine.then((view) => { if (job.value?.id === id) take(view) }, (e) => { if (e instanceof Refusal && e.job && job.value?.id === id) take(e.job) })
    return mine
  }
  async function act(method: string, path: string, body?: unknown): Promise<boolean> {
    busy.value = true
    error.value = ''
    try {
      await changed(method, path, body)
      return true
    } catch (e) {
      error.value = (e as Error).message
      return false
    } finally {
      busy.value = false
    }
  }
  const ask = <T>(path: string, body: unknown, signal?: AbortSignal) => call<T>('POST', `/jobs/${job.value!.id}${path}`, body, signal)

  // What is in hand.
  function takeUp(kind: string, record: Record<string, any>, editing = false) {
    drop()
    show.after = true
    hand.value = { kind, editing, record: reactive({ kind, ...JSON.parse(JSON.stringify(record)) }) }
  }
  function takeBack(stone: Stone) {
    takeUp(stone.kind, stone.record, true)
    chosenStone.value = stone.id
    stage.value = STAGES.find((s) => s.kinds.includes(stone.kind))?.key ?? stage.value
  }
  function drop() {
    hand.value = null
    slot.value = null
    preview.value = null
    handError.value = ''
    lit.value = null
    litGoes.value = false
    marked.value = null
    lines.value = []
    rimOver.value = -1
    studying.value = null
    show.moved = false
    asked?.abort()
  }

  let asked: AbortController | null = null
  let waiting = 0
  /** Ask what the thing in hand would say; only the newest answer counts. */
  function tryIt(delay = 120) {
    window.clearTimeout(waiting)
    waiting = window.setTimeout(async () => {
      if (!hand.value) return
      asked?.abort()
      const mine = (asked = new AbortController())
      previewing.value = true
      try {
        const got = await study<Preview>(job.value!.id, '/preview', { step: plain(hand.value) }, (progress, message) => {
          if (mine === asked) studying.value = { progress, message }
        }, mine.signal)
        if (mine !== asked) return
        preview.value = got
        handError.value = got.status === 'failed' || got.status === 'waiting' ? got.says : ''
        await showGoes(got)
      } catch (e) {
        if ((e as Error).name !== 'AbortError') handError.value = (e as Error).message
      } finally {
        if (mine === asked) { previewing.value = false; studying.value = null }
      }
    }, delay)
  }
  /** Stop what is being worked out. */
  function stopTrying() {
    asked?.abort()
    asked = null
    previewing.value = false
    studying.value = null
  }
  /** What a cleaning step would take away, lit on the scan it works on. */
  async function showGoes(got: Preview) {
    const base = handScan.value?.key
    if (!got.key || !base || !(got.summary as any)?.goes || !['background', 'noise'].includes(hand.value?.kind ?? '')) return
    const b = await geometry(job.value!.id, got.key, 'also', base, 'goes')
    const values = b.arrays.values as Uint8Array
    const some: number[] = []
    for (let i = 0; i < values.length; i++) if (values[i]) some.push(i)
    if (preview.value !== got) return
    lit.value = Uint32Array.from(some)
    litGoes.value = true
  }
  let selecting: AbortController | null = null
  /** Resolve the marks in hand and light what they select. */
  async function select() {
    const h = hand.value
    if (!h?.record.marks) return
    selecting?.abort()
    const mine = (selecting = new AbortController())
    handError.value = ''
    try {
      const got = await ask<Selected>('/select', { scan: h.record.scan, marks: h.record.marks }, mine.signal)
      if (mine !== selecting || hand.value !== h) return
      marked.value = { count: got.count, total: got.total, area: got.area ?? null }
      lit.value = numbers(got.shown)
      litGoes.value = false
    } catch (e) {
      if ((e as Error).name !== 'AbortError') handError.value = (e as Error).message
    }
  }
  const plain = (h: Hand) => {
    const record = JSON.parse(JSON.stringify(h.record))
    if (!record.id) delete record.id
    delete record.alike // how edges are gathered is the hand's, not the step's
    delete record.likeness
    return record
  }
  async function showPick(scanId: string, pick: Record<string, any>, element: string | null) {
    try {
      const got = await ask<{ shown: string; facets: number }>('/pick', { scan: scanId, pick, element })
      lit.value = numbers(got.shown)
    } catch (e) {
      handError.value = (e as Error).message
      lit.value = null
    }
  }
  async function lay(): Promise<boolean> {
    if (!hand.value) return false
    busy.value = true
    handError.value = ''
    const kind = hand.value.kind
    try {
      await changed('POST', '/stones', { step: plain(hand.value) })
      drop()
      if (kind === 'frame') show.scan = true
      if (kind === 'check') show.tide = true
      if (kind === 'merge') { show.joined = 'mesh'; tip.value = null }
      return true
    } catch (e) {
      handError.value = (e as Error).message
      return false
    } finally {
      busy.value = false
    }
  }
  const choose = (name: string, value: number, source = 'typed') => act('POST', '/values', { name, value, source })

  /** A name no stone has yet. */
  function freeName(wanted: string): string {
    const taken = new Set(allStones.value.map((s) => s.name))
    if (!taken.has(wanted)) return wanted
    for (let k = 2; ; k++) if (!taken.has(`${wanted} ${k}`)) return `${wanted} ${k}`
  }
  const visible = (id: string) => { const r = root(id); return alone.value ? alone.value === r || alone.value === id : !hidden.has(r) }

  return {
    joinScans, placement, joining, merged,
    scans, tips, tip, root, handScan, cleaning, litGoes, studying, marked, lines, focus, rimClicked, rimOver, movedReach, stopTrying, select,
    job, error, busy, stage, hand, slot, preview, previewing, handError, lit, chosenStone, hidden, alone, show, level, proof,
    tolerance, inches, allStones, stones, byId, scan, frame, body, check, matrix, running, pending, done,
    open, close, refresh, act, ask, takeUp, takeBack, drop, tryIt, showPick, lay, choose, freeName, visible,
  }
})
