/** What the view is to draw: worked out from the job, the stage and what is in hand; layers draw it. */
import type { Matrix, Stone, Vec3 } from '../api/types'
import { stageOf } from '../kinds/registry'
import { deviationOf } from '../check/shown'
import { isCloud, scanLine } from '../state/job'
import type { Room } from '../state/room'
import type { Lit } from '../state/hand'
import type { DeviationSpec } from './layers/deviation'
import { BODIES, STONES, times, type Colour } from './stone'

export type ScanPlan = { id: string; key: string; colour: number; matrix: Matrix | null; part: boolean }
/** Lines in the scan's coordinates; a number for a tag makes a line one that can be picked. */
export type LinePlan = {
  points: number[][]
  closed: boolean
  colour: Colour
  in?: 'view'
  tag?: string
  through?: boolean
}
export type PlanePlan = { origin: number[]; normal: number[]; size: number; colour: Colour; in?: 'view' }
export type DeviationPlan = Omit<DeviationSpec, 'job' | 'lit'>
export type TagPlan = { id: string; place: number[]; text: string; tone: 'pin' | 'plain' }
export type LoopPlan = { sketch: string; entity: string; points: number[][] }

/** Values that no result holds, by shown vertex, mm: none up to `band` are coloured, those at `full` most. */
export type OwnTide = { values: Float32Array; band: number; full: number }

export type Plan = {
  /** From the scan's coordinates to those shown. */
  matrix: Matrix | null
  scan: ScanPlan | null
  beside: ScanPlan[]
  /** Scans lie as a placement has them. */
  joined: boolean
  scanOn: boolean
  body: { id: string; key: string } | null
  bodyOn: boolean
  /** Bodies that stand beside it. */
  bodies: { id: string; key: string; colour: number }[]
  /** An array of a result as colours on the scan. */
  tide: { key: string; scan: string; name: string; own?: OwnTide } | null
  /** A deviation as it was measured, in place of the scan. */
  deviation: DeviationPlan | null
  /** Words at places of the view. */
  tags: TagPlan[]
  strain: { key: string; rms: number; scans: { id: string; key: string }[] } | null
  /** Facets lit by an array of a result that belongs to the scan shown. */
  litBy: { key: string; name: string; tone: Lit['tone'] } | null
  lines: LinePlan[]
  planes: PlanePlan[]
  /** Datums drawn, by their ids. */
  datums: string[]
  /** Surfaces the scan was split into, by their kinds and names; some of them chosen. */
  zones?: { key: string; scan: string; kinds: string[]; names: string[]; chosen: number[] } | null
  /** A datum that is being made, as it is told. */
  made?: object
  /** The camera stays where it is though the frame moves. */
  staysPut?: boolean
  edges: { body: string; names: (string | number)[][] }
  loops: LoopPlan[]
  handles: Vec3[]
}

const bounds = (s: Stone) => {
  const [a, b] = scanLine(s).bounds
  return { middle: a.map((v, k) => (v + b[k]) / 2), radius: 0.5 * Math.hypot(...a.map((v, k) => b[k] - v)) }
}
/** How large a scan is across, mm. */
export const across = (s: Stone | null | undefined) => (s && scanLine(s).bounds ? 2 * bounds(s).radius : 100)

export const colourOf = (room: Room, root: string) =>
  STONES[Math.max(0, room.job.captures.indexOf(root)) % STONES.length]

/** Where scans are: as the step in hand has them, else as last laid. */
export function placementNow(room: Room): { key: string; stone: Stone | null; told: PlacementTold } | null {
  const { job, hand } = room
  if (hand.result && hand.told && 'motions' in hand.told)
    return { key: hand.result, stone: null, told: hand.told as unknown as PlacementTold }
  const under =
    hand.record && 'placement' in hand.record ? (hand.record.placement as string | null) : undefined
  const stone = under === undefined ? job.placed : under ? (job.byId.get(under) ?? null) : null
  const told = job.toldOf<PlacementTold>(stone)
  return stone?.key && told ? { key: stone.key, stone, told } : null
}
export type PlacementTold = {
  motions: Record<string, Matrix>
  links: { a: string; b: string; overlap: number; rms: number; area: number }[]
  rms: number | null
  aside: Record<string, string[]>
  moved: Record<string, number>
  refused: {
    scan: string
    reason: string
    why: string
    agree: number[]
    pairs: Record<string, unknown>[][]
  }[]
}

/** Several scans that are looked at as scans to be joined. */
export const isJoining = (room: Room) => {
  const stage = room.hand.kind?.stage ?? room.shown.stage
  return stageOf(stage)?.view === 'joined' && (!!room.hand.kind || room.job.joinScans.length > 1)
}

/** Scans where a placement has them, those without a place set beside the rest. */
function joinedScans(room: Room, matrix: Matrix | null): ScanPlan[] {
  const placement = placementNow(room)
  const motions = placement?.told.motions ?? {}
  const list = room.job.joinScans.filter((s) => room.shown.visible(s.id))
  const placed = list.filter((s) => motions[s.id])
  const rest = list.filter((s) => !motions[s.id])
  const plan = (s: Stone, to: Matrix): ScanPlan => ({
    id: s.id,
    key: s.key!,
    colour: colourOf(room, room.job.root(s.id)),
    matrix: to,
    part: !!placement?.told.aside[s.id],
  })
  const out = placed.map((s) => plan(s, times(matrix, motions[s.id])))
  const columns = Math.ceil(Math.sqrt(rest.length * 1.5))
  const pitch = 1.7 * Math.max(1e-6, ...rest.map((s) => bounds(s).radius))
  const right = placed.length ? 1.2 * pitch : 0
  rest.forEach((s, i) => {
    const { middle } = bounds(s)
    const to = [(i % columns) * pitch + right, 0, -Math.floor(i / columns) * pitch]
    const rows = [0, 1, 2].map((r) => [...[0, 1, 2].map((c) => (r === c ? 1 : 0)), to[r] - middle[r]])
    out.push(plan(s, [...rows, [0, 0, 0, 1]]))
  })
  return out
}

/** The plan without what the thing in hand adds. */
function basePlan(room: Room): Plan {
  const { job, hand, shown } = room
  const joining = isJoining(room) && !shown.proof
  const matrix = shown.proof?.matrix ?? job.matrix
  const mesh = joining && !hand.held && shown.show.joined !== 'scans' ? job.merged : null
  const joined = joining && !mesh ? joinedScans(room, matrix) : null
  const main = hand.scan ?? job.scan
  const root = joined ? (joined[0]?.id ?? '') : job.root(main?.id ?? '')
  const plain = (s: Stone): ScanPlan => ({
    id: s.id,
    key: s.key!,
    colour: colourOf(room, job.root(s.id)),
    matrix,
    part: false,
  })
  const proof = shown.proof
  const scan = proof
    ? { id: '', key: proof.scan_key, colour: STONES[0], matrix, part: false }
    : joined
      ? (joined[0] ?? null)
      : mesh
        ? plain(mesh)
        : main?.key
          ? plain(main)
          : null
  const others = proof || hand.held || joining ? [] : job.tips.filter((t) => job.root(t.id) !== root)
  const body = proof
    ? { id: '', key: proof.body_key }
    : job.body?.key
      ? { id: job.body.id, key: job.body.key }
      : null
  const deviation = shown.show.tide ? deviationOf(room) : null
  return {
    matrix,
    scan,
    beside: joined ? joined.slice(1) : others.filter((t) => shown.visible(t.id)).map(plain),
    joined: !!joined,
    scanOn: !deviation && (joining || (shown.show.scan && (!main || shown.visible(main.id)))),
    body,
    bodyOn: !deviation && !joining && shown.model && (!body?.id || shown.visible(body.id)),
    bodies: deviation || joining || proof || !shown.model ? [] : standing(room),
    tide: mesh && shown.show.joined === 'apart' ? { key: mesh.key!, scan: mesh.key!, name: 'apart' } : null,
    deviation,
    tags: [],
    strain: joined ? strainOf(room) : null,
    litBy: null,
    lines: shown.lines as LinePlan[],
    planes: [],
    datums: chosenDatum(room),
    edges: { body: '', names: [] },
    loops: [],
    handles: [],
  }
}
/** Bodies beside the last one; those that the step in hand works on are its own to show. */
const standing = (room: Room): Plan['bodies'] => {
  const { job, hand, shown } = room
  const used = hand.record ? JSON.stringify(hand.record) : ''
  return job.bodies.flatMap((s, k) =>
    s.id !== job.body?.id && s.key && shown.visible(s.id) && !used.includes(`"${s.id}"`)
      ? [{ id: s.id, key: s.key, colour: BODIES[k % BODIES.length] }]
      : [],
  )
}
const chosenDatum = (room: Room) => {
  const s = room.shown.chosen ? room.job.byId.get(room.shown.chosen) : null
  return s?.produces === 'datum' ? [s.id] : []
}
function strainOf(room: Room): Plan['strain'] {
  const placement = placementNow(room)
  if (room.shown.show.joined !== 'apart' || !placement?.told.links.length) return null
  const scans = room.job.joinScans.filter((s) => placement.told.motions[s.id] && room.shown.visible(s.id))
  return {
    key: placement.key,
    rms: placement.told.rms ?? 0,
    scans: scans.map((s) => ({ id: s.id, key: s.key! })),
  }
}

/** What the view is to draw. */
export function planOf(room: Room): Plan {
  const base = basePlan(room)
  const { hand, shown } = room
  const kind = hand.kind
  if (!kind || !hand.record) return { ...base, ...stageOf(shown.stage)?.shows(base, room) }
  const plan = { ...base }
  const result = hand.result
  if (kind.compares) {
    plan.scanOn = true
    plan.bodyOn = false
    plan.tide = plan.deviation = null
    const after = result && shown.show.after && !kind.goes
    if (after && plan.scan) plan.scan = { ...plan.scan, key: result }
    if (after && shown.show.moved) plan.tide = { key: result, scan: result, name: 'moved' }
    if (after && kind.adds) plan.litBy = { key: result, name: kind.adds, tone: 'added' }
  }
  if (result && kind.goes && plan.scan && !isCloudWithout(room))
    plan.litBy = { key: result, name: kind.goes, tone: 'goes' }
  if (hand.spot?.takes.includes('scan')) {
    plan.scanOn = true
    plan.deviation = null
  }
  if (hand.spot?.handles) plan.handles = hand.spot.handles.of(hand.record, room)
  return { ...plan, ...kind.shows(plan, hand.record, hand.preview, room) }
}
/** A cloud that lights nothing because nothing goes. */
const isCloudWithout = (room: Room) => isCloud(room.hand.scan) && room.hand.told?.goes === 0
