import type { EdgeName, Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { edgesSlot } from '../build/edges'
import { frameOf } from '../build/bodied'
import { defineKind } from '../kind'
import { doneOf, nearSlot, needBody, needFrame, needSketch } from '../picks'
import { curveLine, laidCurves } from './shown'

type Record = Omit<Schemas['CurveOfStep'], 'edges'> & { edges: EdgeName[]; alike?: boolean }
type Told = Schemas['CurveTold']
type Way = Record['way']

const TITLES: { [way in Way]: [string, string] } = {
  outline: ['Curve of a sketch', 'What a sketch draws, taken over as a curve that follows it.'],
  views: [
    'Curve of two views',
    'Two sketches on crossing planes, combined into the curve that has both as views.',
  ],
  edges: ['Curve along edges', 'Click edges of the model, one after the other.'],
  meeting: ['Where two meet', 'The line in which two bodies or surfaces meet.'],
  cut: ['Curve of a cut', 'Where a plane cuts the scan, as a calm spline.'],
  aside: ['Curve aside', 'A flat curve moved aside in its plane.'],
  dropped: ['Curve laid on a plane', 'A curve laid onto a plane along its normal.'],
  joined: ['Curves joined', 'Curves joined end to end; gaps can be closed.'],
  part: ['Curve shortened', 'A curve cut off, or made longer straight on, at its ends.'],
}
const last = (room: Room, gives: string, back = 0) => doneOf(room, gives).at(-1 - back)?.id ?? null
const blank = (room: Room, way: Way, more: Partial<Record>): Partial<Record> => ({
  name: room.job.freeName('Curve'),
  frame: frameOf(room),
  way,
  sketch: null,
  other_sketch: null,
  entities: [],
  body: null,
  edges: [],
  other_body: null,
  scan: null,
  curve: null,
  curves: [],
  datum: null,
  near: null,
  distance: { value: 5, source: 'typed' },
  bridge: { value: 0, source: 'typed' },
  begin: { value: 0, source: 'typed' },
  end: { value: 0, source: 'typed' },
  turn_round: false,
  ...more,
})
const needCurve = (room: Room) =>
  needFrame(room) ?? (doneOf(room, 'curve').length ? null : 'Lay a curve first.')
const tool = (
  way: Way,
  place: number,
  also: string,
  needs: (room: Room) => string | null,
  more: (room: Room) => Partial<Record>,
  slot: string | null = null,
) => ({
  id: `curve ${way}`,
  name: TITLES[way][0],
  says: TITLES[way][1],
  also,
  group: 'curves of what is there',
  place,
  slot,
  needs,
  begins: (room: Room) => {
    if (way === 'edges') room.shown.model = true
  },
  record: (room: Room) => blank(room, way, more(room)),
})
const along = edgesSlot<Record>()
const enough: { [way in Way]?: (r: Record) => true | string } = {
  edges: (r) => r.edges.length > 0 || 'Click an edge of the model',
  joined: (r) => r.curves.length > 1 || 'Name at least two curves',
  meeting: (r) => (!!r.body && !!r.other_body) || 'Name the two that meet',
  views: (r) => (!!r.sketch && !!r.other_sketch) || 'Name both views',
  cut: (r) => !!r.datum || 'Name the plane',
  dropped: (r) => !!r.datum || 'Name the plane',
}

export default defineKind<Record, Told>({
  kind: 'curveof',
  stage: 'Sketch',
  title: (r) => TITLES[r.way][0],
  says: (r) => TITLES[r.way][1],
  handOnly: ['alike'],
  ready: (r) => enough[r.way]?.(r) ?? true,
  verb: () => 'Lay curve',
  figures: [{ key: 'length', label: 'length', of: (t) => `${t.length.toFixed(3)} mm` }],
  slots: {
    edges: {
      ...along,
      put: async (at, r, room) => {
        r.alike = false
        await along.put!(at, r, room)
        room.hand.again(0)
      },
    },
    near: nearSlot('Click near the one that is meant'),
  },
  shows: (plan, r, _p, room) => {
    const told = room.hand.told as Told | null
    const lines = [...laidCurves(plan, room).lines!, ...(told ? [curveLine(told.shown, told.closed)] : [])]
    const edges = r.way === 'edges' && r.body ? { edges: { body: r.body, names: r.edges } } : {}
    return { lines, ...edges }
  },
  tools: [
    tool('outline', 1, 'outline take over sketch profile', needSketch, (room) => ({
      sketch: last(room, 'sketch'),
    })),
    tool('views', 2, 'combine two sketches projection intersection views', needSketch, (room) => ({
      sketch: last(room, 'sketch', 1),
      other_sketch: last(room, 'sketch'),
    })),
    tool('edges', 3, 'edge take over boundary', needBody, (room) => ({ body: room.job.body!.id }), 'edges'),
    tool('meeting', 4, 'intersection cross section line', needBody, (room) => ({
      body: room.job.bodies.at(-2)?.id ?? null,
      other_body: room.job.bodies.at(-1)?.id ?? null,
    })),
    tool('cut', 5, 'section slice plane intersection scan', needFrame, (room) => ({
      scan: room.job.scan!.id,
      datum: last(room, 'datum'),
    })),
    tool('aside', 6, 'offset parallel', needCurve, (room) => ({ curve: last(room, 'curve') })),
    tool('dropped', 7, 'project projection flatten', needCurve, (room) => ({
      curve: last(room, 'curve'),
      datum: last(room, 'datum'),
    })),
    tool('joined', 8, 'join connect bridge merge chain', needCurve, (room) => ({
      curves: doneOf(room, 'curve').map((s) => s.id),
    })),
    tool('part', 9, 'trim split extend shorten lengthen', needCurve, (room) => ({
      curve: last(room, 'curve'),
    })),
  ],
})
