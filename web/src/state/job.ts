/** The job's document: what the server says of it, and what follows from that alone. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { Refusal, call } from '../api/client'
import type { JobView, Matrix, ScanLine, Stamp, Stone } from '../api/types'
import { useDetails } from './details'

const WORKING = 450 // ms between two looks while something is worked out
const IDLE = 1200 // ms between two looks at whether others changed the job
const PATIENT = 5 // looks after which what nobody works on is asked for: a change may be laid at once
const LEFT = 30 // looks until it is asked for again
const LOST = 2500

export const done = (s: Stone) => s.status === 'sound' || s.status === 'attention'
export const scanLine = (s: Stone) => s.told as unknown as ScanLine
export const isCloud = (s: Stone | null | undefined) => !!s && scanLine(s).is === 'cloud'

export const useJob = defineStore('job', () => {
  const details = useDetails()
  const job = shallowRef<JobView | null>(null)
  const error = ref('')
  const busy = ref(false)
  /** How many stones of the recipe are looked at; null: all. */
  const level = ref<number | null>(null)
  /** The capture whose scan is worked on. */
  const tip = ref<string | null>(null)

  const allStones = computed(() => job.value?.stones ?? [])
  const stones = computed(() =>
    level.value === null ? allStones.value : allStones.value.slice(0, level.value),
  )
  const byId = computed(() => new Map(allStones.value.map((s) => [s.id, s])))
  const given = (gives: string) => stones.value.filter((s) => s.produces === gives && done(s))
  const last = (gives: string) => given(gives).at(-1) ?? null
  /** Stones before one, or all in sight where it is not laid yet, that give something and are done. */
  function before(id: string | undefined, gives: string): Stone[] {
    const at = allStones.value.findIndex((s) => s.id === id)
    return (at < 0 ? stones.value : allStones.value.slice(0, at)).filter(
      (s) => s.produces === gives && done(s),
    )
  }

  // Scans: captured, bettered, merged.
  const scans = computed(() => given('scan'))
  const isMerged = (s: Stone) =>
    s.produces === 'scan' && s.inputs.some((i) => byId.value.get(i)?.produces === 'placement')
  /** What a scan goes back to: itself as captured, combined or merged. */
  function root(id: string): string {
    const s = byId.value.get(id)
    return s?.produces === 'scan' && s.betters ? root(s.betters) : id
  }
  const captures = computed(() =>
    allStones.value.filter((s) => s.produces === 'scan' && !s.betters && !isMerged(s)).map((s) => s.id),
  )
  const merged = computed(() => scans.value.filter(isMerged).at(-1) ?? null)
  /** Ids of scans that a placement places, at the root of what it rests on. */
  const underPlacement = (id: string): string[] => {
    const s = byId.value.get(id)
    return (s?.inputs ?? []).flatMap((i) => {
      const gives = byId.value.get(i)?.produces
      return gives === 'scan' ? [i] : gives === 'placement' ? underPlacement(i) : []
    })
  }
  const usedBy = (others: Stone[]) =>
    new Set(others.filter((s) => s.status !== 'off').flatMap((s) => s.inputs))
  /**
   * The scans as they stand: those that no other scan step betters; merged ones stand for what they were
   * merged from.
   */
  const tips = computed(() => {
    const used = usedBy(stones.value.filter((s) => s.produces === 'scan'))
    for (const m of stones.value.filter((s) => isMerged(s) && done(s)))
      for (const p of m.inputs) for (const id of underPlacement(p)) used.add(id)
    return scans.value.filter((s) => !used.has(s.id))
  })
  /** The scans there are to join, as they stand. */
  const joinScans = computed(() => {
    const used = usedBy(stones.value.filter((s) => s.produces === 'scan' && !isMerged(s)))
    return scans.value.filter((s) => {
      const from = byId.value.get(root(s.id))
      return !used.has(s.id) && !!from && !isMerged(from)
    })
  })
  const scan = computed(() => tips.value.find((s) => root(s.id) === tip.value) ?? tips.value[0] ?? null)

  const placed = computed(() => last('placement'))
  const frame = computed(() => last('frame'))
  const body = computed(() => last('body'))
  /** Bodies that no other step has taken up: what stands in the end, the last one worked on with them. */
  const bodies = computed(() => {
    const all = given('body')
    const taken = new Set(stones.value.filter((s) => s.produces === 'body').flatMap((s) => s.inputs))
    return all.filter((s) => !taken.has(s.id))
  })
  const check = computed(() => last('deviation'))
  const matrix = computed(() => (frame.value?.told.matrix as Matrix | undefined) ?? null)
  const running = computed(
    () => job.value?.tasks.filter((t) => t.state === 'running' || t.state === 'waiting') ?? [],
  )

  let poll = 0
  function take(view: JobView) {
    job.value = view
    again(running.value.length ? WORKING : IDLE)
  }
  function again(after: number) {
    window.clearTimeout(poll)
    poll = window.setTimeout(running.value.length ? refresh : glance, after)
  }
  /** Whether others changed the job: asked in a few bytes; a page nobody looks at asks nothing. */
  async function glance() {
    const shown = job.value
    if (!shown) return
    if (document.hidden) return again(IDLE)
    try {
      const now = await call<Stamp>('GET', `/jobs/${shown.id}/stamp`)
      if (job.value !== shown) return
      const same = now.revision === shown.revision && !now.working && now.proofs === shown.proofs.length
      if (!same) return refresh()
      if (await laidAnew()) return
      again(IDLE)
    } catch {
      again(LOST)
    }
  }
  async function refresh() {
    if (!job.value) return
    const id = job.value.id
    try {
      const view = await call<JobView>('GET', `/jobs/${id}`)
      if (job.value?.id === id) take(view)
    } catch (e) {
      error.value = (e as Error).message
      again(LOST)
    }
  }
  async function open(id: number) {
    close()
    take(await call<JobView>('GET', `/jobs/${id}`))
    if (outdated()) await act('POST', '/tasks/retry')
  }
  /**
   * Whether a stone is not worked out, though nobody stopped it: the program has changed since, or the server
   * ended between keeping a change and laying it.
   */
  const outdated = () =>
    (job.value?.tasks[0]?.state ?? 'done') === 'done' && allStones.value.some((s) => s.status === 'pending')
  let unlaid = 0
  /** Have laid what stays unlaid for some looks with nobody at work on it; whether it was asked for. */
  async function laidAnew(): Promise<boolean> {
    unlaid = outdated() && !busy.value ? unlaid + 1 : 0
    return unlaid % LEFT === PATIENT && (await act('POST', '/tasks/retry'))
  }
  function close() {
    window.clearTimeout(poll)
    job.value = null
    level.value = null
    tip.value = null
    error.value = ''
  }

  let lastChange: Promise<unknown> = Promise.resolve()
  /**
   * Ask for a change of the recipe as it is shown, one after the other; the answer is the whole job, also
   * where others changed it.
   */
  function changed(method: string, path: string, body?: unknown): Promise<JobView> {
    const id = job.value!.id
    const mine = lastChange.then(() =>
      call<JobView>(
        method,
        `/jobs/${id}${path}`,
        body,
        undefined,
        job.value?.id === id ? job.value.revision : undefined,
      ),
    )
    lastChange = mine.then(
      (view) => {
        if (job.value?.id === id) take(view)
      },
      (e) => {
        if (e instanceof Refusal && e.job && job.value?.id === id) take(e.job)
      },
    )
    return mine
  }
  /** A change whose refusal is said over the view. */
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
  const ask = <T>(path: string, body: unknown, signal?: AbortSignal) =>
    call<T>('POST', `/jobs/${job.value!.id}${path}`, body, signal)
  const choose = (name: string, value: number, source = 'typed') =>
    act('POST', '/values', { name, value, source })
  const toldOf = <T>(s: Stone | null | undefined): T | null =>
    job.value && s && done(s) ? details.toldOf<T>(job.value.id, s.key) : null

  /** A name no stone has yet. */
  function freeName(wanted: string): string {
    const taken = new Set(allStones.value.map((s) => s.name))
    if (!taken.has(wanted)) return wanted
    for (let k = 2; ; k++) if (!taken.has(`${wanted} ${k}`)) return `${wanted} ${k}`
  }

  return {
    job,
    error,
    busy,
    level,
    tip,
    allStones,
    stones,
    byId,
    given,
    last,
    before,
    scans,
    captures,
    merged,
    isMerged,
    root,
    tips,
    joinScans,
    scan,
    placed,
    frame,
    body,
    bodies,
    check,
    matrix,
    running,
    open,
    close,
    refresh,
    changed,
    act,
    ask,
    choose,
    toldOf,
    freeName,
  }
})
