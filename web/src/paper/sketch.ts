/** The drawing on the paper: its traces, what is picked, the tool in hand, and what the server says. */
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { floats } from '../api/client'
import type { Schemas, StoneDetail, Trace } from '../api/types'
import { useDetails } from '../state/details'
import { useHand } from '../state/hand'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import type { Entity, XY } from './shapes'
import { acts, type Change, type GroupName, type PaperTool } from './tools'

type Drawing = Schemas['SketchStep']
type Told = Schemas['SketchTold']
type Drawn = Pick<Drawing, 'strokes' | 'relations' | 'sizes'>
type Changed = Drawn & { geometry?: Entity[]; fresh: string[]; unsaid: string[]; refused?: Refused[] }
export type Refused = { kind: string; of: string[]; by: number; cost: number }
export type Offers = Schemas['Offers']
export type Group = GroupName | 'relate' | 'size'

const plain = <T>(x: T): T => JSON.parse(JSON.stringify(x)) as T

export const useSketch = defineStore('sketch', () => {
  const j = useJob()
  const hand = useHand()
  const shown = useShown()
  const details = useDetails()
  const trace = shallowRef<Trace | null>(null)
  const stretches = shallowRef<Schemas['StretchView'][]>([])
  const refused = ref<Refused[]>([])
  const unsaid = ref<string[]>([])
  const laid = shallowRef<StoneDetail | null>(null)
  const says = ref('')

  /** The drawing that is made, where one is in hand. */
  const mine = computed(() => (hand.kind?.paper ? (hand.record as unknown as Drawing) : null))
  const editing = computed(() => !!mine.value)
  /** The laid drawing that is looked at. */
  const looked = computed(() => {
    if (hand.held) return null
    const all = j.given('sketch')
    return all.find((s) => s.id === shown.chosen) ?? all.at(-1) ?? null
  })
  watch(
    [() => looked.value?.id, () => looked.value?.key],
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
  /** Where the traces lie: what decides them, and nothing of the drawing. */
  const where = (r: Drawing) => {
    const { scan, frame, axis, along, on, on_face, share, height, turn_deg, lean_deg } = r
    const { traces, only, projected } = r
    const lies = { scan, frame, axis, along, on, on_face, share, height, turn_deg, lean_deg }
    return { ...lies, traces, only, projected }
  }
  const wholeOf = (r: Drawing) =>
    plain({ ...where(r), strokes: r.strokes, relations: r.relations, sizes: r.sizes })
  const whole = () => plain({ ...where(mine.value!), ...drawn() })
  const drawn = (): Drawn => {
    const { strokes, relations, sizes } = mine.value!
    return { strokes, relations, sizes }
  }

  /** Where colours by distance are full, mm: on the paper and on the scan alike. */
  const scale = computed(() => Math.max(1e-9, 4 * (summary.value?.rms || summary.value?.noise || 0)))
  /** Hairs stand for how far the trace lies off, many times over. */
  const hairs = ref(false)
  /** The scan's walls are coloured by how far they lie off what the drawing would sweep. */
  const onScan = ref(false)
  const walls = shallowRef<{
    scan: string
    values: Float32Array
    count: number
    told: Schemas['Walls']
  } | null>(null)
  let asks = 0
  watch([onScan, summary], async () => {
    const r = record.value
    const mine = ++asks
    if (!onScan.value || !summary.value || !r?.strokes.length) return void (walls.value = null)
    try {
      const told = await j.ask<Schemas['Walls']>('/sketch/walls', { sketch: wholeOf(r) })
      const scan = j.byId.get(r.scan)?.key
      if (mine === asks && scan) walls.value = { scan, values: floats(told.off), count: mine, told }
    } catch (e) {
      if (mine !== asks) return
      onScan.value = false
      hand.error = (e as Error).message
    }
  })

  const cut = computed(() => {
    const r = record.value
    const t = trace.value
    if (!r || !t) return null
    const { origin, normal, u } = t.plane
    const v = [
      normal[1] * u[2] - normal[2] * u[1],
      normal[2] * u[0] - normal[0] * u[2],
      normal[0] * u[1] - normal[1] * u[0],
    ]
    const to = (p: number[]) => [0, 1, 2].map((k) => origin[k] + u[k] * p[0] + v[k] * p[1])
    const loops = t.traces.flatMap((ls, k) => (r.traces?.[k]?.hidden ? [] : ls.map((l) => l.points.map(to))))
    return { origin, normal, loops }
  })

  /** The view turns so that a new paper's cut is seen, a little from the side. */
  let turned = ''
  function turnTo(r: Drawing, plane: Trace['plane']) {
    const key = `${mine.value === r} ${r.axis} ${r.along} ${r.on}`
    if (key === turned || mine.value !== r) return
    turned = key
    const { normal: n, u } = plane
    const v = [n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]]
    shown.facing = {
      from: [0, 1, 2].map((k) => n[k] + 0.28 * u[k] - (Math.abs(n[2]) > 0.5 ? 0.45 : -0.3) * v[k]),
    }
  }

  // The newest plane wins; one question at a time, so that dragging never queues up.
  const cutting = ref(false)
  let again = false
  async function cutNow() {
    const r = record.value
    if (!r || !j.job) return
    if (cutting.value) {
      again = true
      return
    }
    cutting.value = true
    const inHand = mine.value
    try {
      const got = await j.ask<Trace>('/sketch/trace', { sketch: plain(where(r)) })
      // Another drawing was taken up meanwhile: the paper would be fitted to a trace that is not its own.
      if (mine.value !== inHand) return
      trace.value = got
      turnTo(r, got.plane)
      if (hand.error && !hand.preview) hand.error = ''
    } catch (e) {
      hand.error = (e as Error).message
    } finally {
      cutting.value = false
      if (again) {
        again = false
        cutNow()
      }
    }
  }
  watch(
    () => {
      const r = record.value
      return [r && JSON.stringify(where(r)), j.job?.revision]
    },
    () => {
      stretches.value = []
      cutNow()
    },
    { immediate: true },
  )
  /** Whether somebody has the paper's height in hand: then nothing else moves it, nor what is typed in. */
  const taken = ref(false)
  /** Begin where there is something to draw on. */
  async function begin() {
    const r = mine.value
    if (!r) return
    says.value = ''
    taken.value = false
    const was = r.height
    try {
      const got = await j.ask<Schemas['Beginning']>('/sketch/beginning', { sketch: plain(where(r)) })
      if (mine.value !== r || r.height !== was || taken.value) return // somebody has moved it meanwhile
      r.height = got.height
      says.value = got.says
    } catch (e) {
      hand.error = (e as Error).message
    }
  }

  // Tools.
  const group = ref<Group>('fit')
  const tool = shallowRef<PaperTool | null>(null)
  const given = ref<XY[]>([])
  const of = ref<string[]>([])
  const guide = ref(false)
  const numbers = reactive<Record<string, Record<string, number>>>({})
  const asked = computed(() => {
    const t = tool.value
    if (!t?.asks) return null
    return (numbers[t.id] ??= Object.fromEntries(t.asks.map((a) => [a.key, a.start])))
  })
  const prompt = computed(() => {
    const t = tool.value
    if (!t) return ''
    const k = t.takes === 'entities' ? of.value.length : given.value.length
    return t.says[Math.min(k, t.says.length - 1)]
  })
  function take(t: PaperTool | null) {
    given.value = []
    hand.error = ''
    tool.value = tool.value === t ? null : t
    if (!tool.value) return
    if (t!.takes === 'entities' || t!.takes === 'spot') of.value = []
    if (t!.takes === 'stretch') readAhead()
    if (acts(t!)) send()
  }
  async function readAhead() {
    const r = mine.value
    if (!r || stretches.value.length) return
    const got = await j
      .ask<Schemas['StretchView'][]>('/sketch/stretches', { sketch: plain(where(r)) })
      .catch(() => [])
    if (mine.value === r) stretches.value = got
  }
  /** Escape: the tool first, then what is picked. Whether there was anything. */
  function back(): boolean {
    const any = given.value.length > 0 || !!tool.value || of.value.length > 0
    if (given.value.length) given.value = []
    else if (tool.value) take(null)
    else of.value = []
    return any
  }
  const reach = ref(1)

  async function send(places = given.value) {
    const t = tool.value
    if (!t || !mine.value) return
    const whichOf = [...of.value]
    const needs = t.takes === 'picked' || t.takes === 'after'
    if (needs && t.id !== 'close gaps' && !whichOf.length) {
      hand.error = `Pick what to ${t.name} first, then the tool.`
      tool.value = null
      return
    }
    const change = t.change({
      places: places as [number, number][],
      of: whichOf,
      reach: reach.value,
      numbers: asked.value ?? {},
      guide: guide.value,
    })
    given.value = []
    const ok = await make(change)
    if (t.takes !== 'stretch' && t.takes !== 'places') of.value = []
    if (ok && tool.value === t && (needs || acts(t))) tool.value = null
  }
  /** A place on the paper that the tool takes. */
  function place(p: XY) {
    const t = tool.value
    if (!t) return
    given.value = [...given.value, p]
    if (t.count && given.value.length >= t.count) send()
  }
  /** An entity or a place on one that the tool takes, clicked at a place. */
  function entity(name: string, p: XY) {
    const t = tool.value!
    if (t.takes === 'spot') {
      of.value = [name]
      given.value = [p]
      return send()
    }
    const who = t.takes === 'entities' ? name.split('.')[0] : name
    of.value = [...of.value, who]
    if (t.takes === 'after' || of.value.length >= t.count) send()
  }
  const brush = (path: XY[], radius: number) =>
    make({ do: 'brush', kind: tool.value!.name, places: path as [number, number][], reach: radius })

  // Changes, and the way back.
  const past = ref<Drawn[]>([])
  const future = ref<Drawn[]>([])
  watch(mine, (now, before) => {
    if (now && before && now === before) return
    turned = ''
    trace.value = null // the paper is fitted anew to what comes
    cutNow()
    past.value = []
    future.value = []
    way.value = null
    of.value = []
    refused.value = []
    unsaid.value = []
    tool.value = null
    offers.value = null
  })
  function remember() {
    past.value = [...past.value.slice(-60), plain(drawn())]
    future.value = []
  }
  /** Undo or redo within the drawing in hand; whether there was anything. */
  function step(forward: boolean): boolean {
    if (!mine.value) return false
    if (!drawing.value) return stepNow(forward)
    inTurn(() => stepNow(forward))
    return true
  }
  function stepNow(forward: boolean): boolean {
    const [from, to] = forward ? [future, past] : [past, future]
    const next = from.value.at(-1)
    if (!next) return false
    to.value = [...to.value, plain(drawn())]
    from.value = from.value.slice(0, -1)
    way.value = null
    put(plain(next))
    return true
  }
  function put(got: Drawn) {
    Object.assign(mine.value!, { strokes: got.strokes, relations: got.relations, sizes: got.sizes })
    const here = new Set([...got.strokes, ...(trace.value?.projected ?? [])].map((s) => s.id))
    of.value = of.value.filter((n) => here.has(n.split('.')[0]))
    if (got.strokes.length) hand.tryIt(0)
    else hand.preview = null
  }
  /**
   * Changes are made one after another, each to what the one before left: of two quick clicks none is
   * lost. Those that waited for a drawing which is no longer in hand are not made.
   */
  let turn: Promise<unknown> = Promise.resolve()
  const waiting = ref(0)
  const drawing = computed(() => waiting.value > 0)
  function inTurn<T>(act: () => T | Promise<T>): Promise<T | false> {
    const r = mine.value
    waiting.value++
    const done = turn.then(async () => {
      try {
        return mine.value === r ? await act() : false
      } finally {
        waiting.value--
      }
    })
    turn = done.catch(() => undefined)
    return done
  }
  /** What is done to the drawing without asking, once what was asked before is answered. */
  function once(act: () => void) {
    if (drawing.value) inTurn(act)
    else act()
  }
  function make(change: Change): Promise<boolean> {
    if (!mine.value) return Promise.resolve(false)
    hand.error = ''
    return inTurn(() => makeNow(change))
  }
  async function makeNow(change: Change): Promise<boolean> {
    const r = mine.value
    try {
      const got = await j.ask<Changed>('/sketch/change', { sketch: whole(), change })
      if (mine.value !== r) {
        ghost.value = null
        return false
      }
      remember()
      put(got)
      ghost.value = got.geometry?.length ? got.geometry : null // seen at once, measured after
      way.value = change.do === 'automatic' ? (change.other ?? 0) : null
      unsaid.value = got.unsaid
      if (got.refused) refused.value = got.refused
      return true
    } catch (e) {
      hand.error = (e as Error).message
      ghost.value = null
      return false
    }
  }
  /** Which of the whole trace's drawings is on the paper, while nothing else was done to it. */
  const way = ref<number | null>(null)
  const drawAll = () => make({ do: 'automatic' })
  const drawOtherwise = () => make({ do: 'automatic', other: (way.value ?? 0) + 1 })
  async function bring(file: File) {
    const data = new FormData()
    data.append('file', file)
    try {
      const entities = await j.ask<Record<string, unknown>[]>('/sketch/dxf', data)
      await make({ do: 'bring', entities })
    } catch (e) {
      hand.error = (e as Error).message
    }
  }

  // Dragging a place.
  const ghost = shallowRef<Entity[] | null>(null)
  // What was dragged stays where it was let go until the drawing is solved anew.
  watch(
    () => hand.trying,
    (trying) => {
      if (!trying && !dragging.value) ghost.value = null
    },
  )
  let pulling = false
  let next: { handle: string; to: XY } | null = null
  async function pull(handle: string, to: XY) {
    next = { handle, to }
    if (pulling || !mine.value) return
    pulling = true
    while (next) {
      const now: { handle: string; to: XY } = next
      next = null
      try {
        const got = await j.ask<Entity[]>('/sketch/drag', { sketch: whole(), ...now })
        if (mine.value && dragging.value) ghost.value = got
      } catch (e) {
        hand.error = (e as Error).message
      }
    }
    pulling = false
  }
  const dragging = ref('')
  function drop(handle: string, to: XY) {
    dragging.value = ''
    next = null
    make({ do: 'put', of: [handle], places: [to], reach: reach.value })
  }

  // What is picked, and what could be held of it.
  const offers = shallowRef<Offers | null>(null)
  watch(
    [() => JSON.stringify(of.value), () => tool.value?.id, () => JSON.stringify(mine.value?.relations ?? [])],
    async () => {
      const asked = [...of.value]
      if (!mine.value || tool.value || !asked.length || asked.length > 3) {
        offers.value = null
        return
      }
      const got = await j.ask<Offers>('/sketch/offers', { sketch: whole(), of: asked }).catch(() => null)
      if (JSON.stringify(asked) === JSON.stringify(of.value)) offers.value = got
    },
  )
  function pick(name: string, more: boolean) {
    const had = of.value.includes(name)
    if (more) of.value = had ? of.value.filter((n) => n !== name) : [...of.value, name]
    else of.value = had && of.value.length === 1 ? [] : [name]
  }
  function hold(x: { kind: string; of: string[]; by?: number }) {
    once(() => {
      remember()
      const r = { kind: x.kind, of: x.of, by: x.by ?? 0 } as Drawing['relations'][number]
      mine.value!.relations.push(r)
      refused.value = refused.value.filter((y) => !isSame(x, y))
      hand.tryIt(0)
    })
  }
  type Named = { kind: string; of: string[] }
  const isSame = (x: Named, y: Named) => x.kind === y.kind && x.of.join() === y.of.join()
  /** Do something to one of a list, found again should what was asked before have moved it. */
  function toOne<T extends Named>(list: () => T[], k: number, act: (list: T[], k: number) => void) {
    const x = plain(list()[k])
    once(() => {
      const now = list()
      const at = now[k] && isSame(now[k], x) ? k : now.findIndex((y) => isSame(y, x))
      if (at < 0) return
      remember()
      act(list(), at)
      hand.tryIt(0)
    })
  }
  const relations = () => mine.value!.relations as Drawing['relations']
  const sizes = () => mine.value!.sizes as Drawing['sizes']
  const letGo = (k: number) => toOne(relations, k, (all, at) => all.splice(at, 1))
  const letSizeGo = (k: number) => toOne(sizes, k, (all, at) => all.splice(at, 1))
  function measure(z: { kind: string; of: string[]; unit: string }, label = '') {
    once(() => {
      remember()
      const taken = new Set(sizes().map((s) => s.id))
      let k = 1
      while (taken.has(`s${k}`)) k++
      const size = { id: `s${k}`, kind: z.kind, of: z.of, label, chosen: null, source: 'scan' }
      sizes().push(size as Drawing['sizes'][number])
      hand.tryIt(0)
    })
  }
  const choose = (k: number, value: number, source: string) =>
    toOne(sizes, k, (all, at) => Object.assign(all[at], { chosen: value, source }))

  return {
    trace,
    stretches,
    refused,
    unsaid,
    drawing,
    says,
    record,
    mine,
    summary,
    cut,
    scale,
    hairs,
    onScan,
    walls,
    editing,
    begin,
    taken,
    group,
    tool,
    given,
    of,
    guide,
    numbers,
    asked,
    prompt,
    reach,
    take,
    back,
    send,
    place,
    entity,
    brush,
    past,
    future,
    step,
    make,
    drawAll,
    drawOtherwise,
    way,
    bring,
    ghost,
    dragging,
    cutting,
    pull,
    drop,
    offers,
    pick,
    hold,
    letGo,
    letSizeGo,
    measure,
    choose,
  }
})
