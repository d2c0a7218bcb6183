/** What is in hand: one step's record, tried as it changes, laid or dropped. */
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef } from 'vue'
import { numbers, study, type Refusal } from '../api/client'
import type { PickRecord, Preview, StepRecord, Stone, StoneDetail } from '../api/types'
import type { Kind, Slot, Tool } from '../kinds/kind'
import { kindOf, noteUse } from '../kinds/registry'
import type { Under } from '../view3d/picking'
import { useDetails } from './details'
import { useJob } from './job'
import { useMarks, type Mark } from './marks'
import type { Room } from './room'
import { useShown } from './shown'

export type Held = { kind: string; editing: boolean; record: StepRecord }
export type Lit = { facets: Uint32Array; tone: 'picked' | 'goes' | 'added' }

/** The hand as others see it; written out, because kinds speak of it and it speaks of kinds. */
export interface Hand {
  held: Held | null
  readonly record: StepRecord | null
  readonly kind: Kind | null
  slot: string | null
  readonly spot: Slot<StepRecord> | null
  preview: Preview | null
  readonly previewing: boolean
  /** Whether what is in hand is still to be tried as it is now, or is being tried. */
  readonly trying: boolean
  error: string
  readonly studying: { progress: number; message: string } | null
  lit: Lit | null
  over: Under | null
  readonly scan: Stone | null
  readonly told: Record<string, unknown> | null
  readonly result: string | null
  readonly missing: string | null
  /** References of the step taken back that hold nothing any more, and what could stand there. */
  lost: StoneDetail['lost']
  replace: (lost: StoneDetail['lost'][number], by: unknown) => void
  leaveOut: () => void
  takeUp: (kind: string, fields: Omit<StepRecord, 'kind'>, editing?: boolean) => void
  start: (tool: Tool) => void
  takeBack: (stone: Stone) => Promise<void>
  takeCopy: (stone: Stone) => Promise<void>
  drop: () => void
  tryIt: (delay?: number) => void
  again: (delay?: number) => void
  /** What would be told of what is in hand, were these fields so; asked while nothing else is tried. */
  weigh: (fields: object, signal: AbortSignal) => Promise<Preview>
  stopTrying: () => void
  showPick: (scan: string, pick: PickRecord, element: string | null, aside?: boolean) => Promise<void>
  select: () => Promise<void>
  /** The marks of the slot that has the hand, or the step's own. */
  marksInHand: () => Mark[] | undefined
  mark: (by: Mark) => void
  lay: () => Promise<boolean>
}

export const useHand: () => Hand = defineStore('hand', () => {
  const j = useJob()
  const shown = useShown()
  const marks = useMarks()
  const details = useDetails()
  const held = ref<Held | null>(null)
  const slot = ref<string | null>(null)
  const preview = shallowRef<Preview | null>(null)
  const previewing = ref(false)
  const trying = ref(false)
  const error = ref('')
  const studying = ref<{ progress: number; message: string } | null>(null)
  /** Facets lit on the scan that is shown. */
  const lit = shallowRef<Lit | null>(null)
  /** What the pointer is over, of what the slot takes. */
  const over = shallowRef<Under | null>(null)

  const lost = shallowRef<StoneDetail['lost']>([])

  const record = computed(() => held.value?.record ?? null)
  const kind = computed(() => (held.value ? (kindOf(held.value.kind) ?? null) : null))
  /** The scan the thing in hand works on. */
  const scan = computed(() => (record.value?.scan ? (j.byId.get(record.value.scan as string) ?? null) : null))
  /** What was said of it, where that is no failure. */
  const told = computed(() =>
    preview.value && preview.value.status !== 'failed' ? preview.value.summary : null,
  )
  /** The preview where it stands for a result that can be shown. */
  const result = computed(() => (preview.value?.key && told.value && !error.value ? preview.value.key : null))
  const spot = computed(() => (slot.value ? (kind.value?.slots[slot.value] ?? null) : null))
  const missing = computed(() => {
    const k = kind.value
    if (!k || !record.value) return 'Nothing is in hand.'
    const said = k.ready(record.value, preview.value)
    return said === true ? null : said
  })

  const room = (): Room => ({ job: j, hand: useHand(), shown, marks })

  function takeUp(kindName: string, fields: Omit<StepRecord, 'kind'>, editing = false) {
    drop()
    shown.show.after = true
    const copy = JSON.parse(JSON.stringify(fields)) as Omit<StepRecord, 'kind'>
    held.value = { kind: kindName, editing, record: reactive({ ...copy, kind: kindName }) as StepRecord }
    const tries = kind.value?.tries
    if (tries === 'always' || (tries === 'taken back' && editing)) tryIt(0)
  }
  function start(tool: Tool) {
    const r = room()
    if (tool.needs(r)) return
    noteUse(tool.id)
    shown.stage = tool.stage
    takeUp(tool.kind, tool.record(r) as Omit<StepRecord, 'kind'>)
    slot.value = tool.slot
    tool.begins(r)
  }
  /** Take a laid stone back to the bench. */
  async function takeBack(stone: Stone) {
    try {
      const whole = await details.stone(j.job!.id, stone.id)
      takeUp(stone.kind, whole.record as StepRecord, true)
      lost.value = whole.lost
      shown.chosen = stone.id
      shown.stage = kind.value?.stage ?? shown.stage
    } catch (e) {
      j.error = (e as Error).message
    }
  }
  function drop() {
    stopTrying()
    held.value = null
    slot.value = null
    preview.value = null
    error.value = ''
    lit.value = null
    over.value = null
    lost.value = []
    marks.forget()
    shown.lines = []
    shown.show.moved = false
  }

  /** Leave out of its list what is gone. */
  function leaveOut() {
    const r = record.value as unknown as Record<string, unknown[]>
    const fields = new Set(lost.value.filter((l) => l.path.length === 2).map((l) => String(l.path[0])))
    for (const k of fields) {
      const gone = new Set(lost.value.filter((l) => l.path[0] === k).map((l) => l.path[1]))
      r[k] = r[k]!.filter((_, n) => !gone.has(n))
    }
    lost.value = lost.value.filter((l) => l.path.length !== 2)
    again()
  }

  /** Take a stone's like in hand: a new one of the same kind, on what stands now. */
  async function takeCopy(stone: Stone) {
    try {
      const { record: was } = await details.stone(j.job!.id, stone.id)
      const under = stone.betters ? j.last(stone.produces)?.id : undefined
      const rest = Object.entries(was)
        .filter(([k]) => !['id', 'formulas', 'value_names'].includes(k))
        .map(([k, v]) => [k, under && v === stone.betters ? under : v])
      const fields = { ...Object.fromEntries(rest), name: j.freeName(stone.name) }
      takeUp(stone.kind, fields as unknown as StepRecord)
      shown.stage = kind.value?.stage ?? shown.stage
      tryIt(0)
    } catch (e) {
      j.error = (e as Error).message
    }
  }

  /** Put another step where one was lost. */
  function replace(gone: StoneDetail['lost'][number], by: unknown) {
    let at = record.value as unknown as Record<string | number, unknown>
    for (const k of gone.path.slice(0, -1)) at = at[k] as typeof at
    at[gone.path.at(-1)!] = by
    lost.value = lost.value.filter((l) => l !== gone)
    again()
  }

  let asked: AbortController | null = null
  let waiting = 0
  /** Ask what the thing in hand would say; only the newest answer counts. */
  function tryIt(delay = 120) {
    window.clearTimeout(waiting)
    trying.value = true
    waiting = window.setTimeout(async () => {
      waiting = 0
      if (!held.value) return void (trying.value = false)
      asked?.abort()
      const mine = (asked = new AbortController())
      previewing.value = true
      try {
        const told = (progress: number, message: string) => {
          if (mine === asked) studying.value = { progress, message }
        }
        const got = await study<Preview>(j.job!.id, '/preview', where(held.value), told, mine.signal)
        if (mine !== asked) return
        preview.value = got
        error.value = got.status === 'failed' || got.status === 'waiting' ? got.says : ''
      } catch (e) {
        // An older question that reached the server late stops this one: it is asked again.
        if (mine === asked && (e as Refusal).code === 'cancelled') tryIt(60)
        else if ((e as Error).name !== 'AbortError') error.value = (e as Error).message
      } finally {
        if (mine === asked) {
          previewing.value = false
          studying.value = null
          trying.value = waiting !== 0
        }
      }
    }, delay)
  }
  /** What was said is no longer so: ask again. */
  function again(delay = 0) {
    preview.value = null
    tryIt(delay)
  }
  const weigh = (fields: object, signal: AbortSignal) => {
    const { step, after } = where(held.value!)
    return study<Preview>(j.job!.id, '/preview', { step: { ...step, ...fields }, after }, () => {}, signal)
  }
  /** Stop what is being worked out. */
  function stopTrying() {
    window.clearTimeout(waiting)
    waiting = 0
    asked?.abort()
    asked = null
    previewing.value = false
    trying.value = false
    studying.value = null
  }
  /** The stone that a new one goes after: the last in sight where the level is drawn back. */
  const after = (h: Held) => (h.editing || j.level === null ? null : (j.stones.at(-1)?.id ?? null))
  const plain = (h: Held) => {
    const out = JSON.parse(JSON.stringify(h.record)) as Record<string, unknown>
    if (!out.id) delete out.id
    for (const k of kind.value?.handOnly ?? []) delete out[k]
    return out
  }
  const where = (h: Held) => ({ step: plain(h), after: after(h) })

  /** Light what a pick gathers on a scan, or of that what its fit sets ``aside``. */
  async function showPick(scanId: string, pick: PickRecord, element: string | null, aside = false) {
    try {
      const got = await j.ask<{ shown: string }>('/pick', { scan: scanId, pick, element, aside })
      lit.value = { facets: numbers(got.shown), tone: 'picked' }
    } catch (e) {
      error.value = (e as Error).message
      lit.value = null
    }
  }
  /** The marks of the slot that has the hand, or the step's own. */
  const marksInHand = () => {
    if (spot.value?.onto) return spot.value.onto.marks(record.value!)
    const key = slot.value && spot.value?.marks ? slot.value : 'marks'
    return record.value?.[key] as Mark[] | undefined
  }
  /** Light what the marks in hand select. */
  async function select() {
    const h = held.value
    const given = marksInHand()
    if (!h || !given || !h.record.scan) return
    if (spot.value?.onto) return spot.value.onto.show(h.record, room())
    error.value = ''
    try {
      const facets = await marks.select(h.record.scan as string, given)
      if (facets && held.value === h) lit.value = { facets, tone: 'picked' }
    } catch (e) {
      error.value = (e as Error).message
    }
  }
  function mark(by: Mark) {
    marksInHand()!.push(by)
    select()
    if (kind.value?.slots[slot.value ?? '']?.marks !== 'later') tryIt()
  }

  async function lay(): Promise<boolean> {
    const h = held.value
    const k = kind.value
    if (!h || !k || missing.value) return false
    j.busy = true
    error.value = ''
    try {
      await j.changed('POST', '/stones', { step: plain(h), after: after(h) })
      if (j.level !== null && !h.editing) j.level++
      drop()
      k.laid(room())
      return true
    } catch (e) {
      error.value = (e as Error).message
      return false
    } finally {
      j.busy = false
    }
  }

  return {
    held,
    record,
    kind,
    slot,
    spot,
    preview,
    previewing,
    trying,
    error,
    studying,
    lit,
    over,
    scan,
    told,
    result,
    missing,
    lost,
    replace,
    leaveOut,
    takeUp,
    start,
    takeBack,
    takeCopy,
    drop,
    tryIt,
    again,
    weigh,
    stopTrying,
    showPick,
    select,
    marksInHand,
    mark,
    lay,
  }
})
