import type { Preview, Schemas, StepRecord } from '../../api/types'
import { short } from '../../state/format'
import type { Room } from '../../state/room'
import { defineKind, type Slot } from '../kind'
import { doneOf, needBody, needSketch, pickAt, widenPick } from '../picks'
import { dragEnd, endPlaces, endsGiven, facesPicked, missingFaces } from './ends'
import ExtrudeForm from './ExtrudeForm.vue'
import { loopsInSpace, type SketchTold } from './loops'

type Record = Schemas['ExtrudeStep']
type Told = Schemas['ExtrudeTold']
type End = 'start' | 'end'

const face = (): Record['start'] => ({
  to: 'face',
  datum: null,
  pick: null,
  height: { value: null, source: 'rounded' },
})
function record(room: Room, how: Record['how'], sketch: string, loops: string[] = []): Partial<Record> {
  const drawn = room.job.toldOf<SketchTold>(room.job.byId.get(sketch))
  const open = how === 'join' && !!drawn && !drawn.loops.length // an open profile gives a surface
  return {
    name: room.job.freeName(how === 'cut' ? 'Cut' : 'Extrusion'),
    scan: room.job.scan!.id,
    frame: room.job.frame!.id,
    sketch,
    body: open ? null : (room.job.body?.id ?? null),
    how,
    loops,
    start: face(),
    end: how === 'cut' ? { ...face(), to: 'through' } : face(),
    draft: { value: 0, source: 'typed' },
    result: open ? 'surface' : 'solid',
  }
}
const end = (key: End): Slot<Record> => ({
  takes: ['scan'],
  says: `Click the face where it ${key === 'start' ? 'begins' : 'ends'}, or drag its dot there`,
  put: (at, r, room) => {
    const pick = pickAt(at, 'same facing', r[key].pick)
    if (!pick) return
    r[key] = { ...face(), to: r[key].to === 'surface' ? 'surface' : 'face', pick }
    room.hand.showPick(r.scan, pick, null)
    if (key === 'start' && facesPicked(r.end.to) && !r.end.pick) room.hand.slot = 'end'
    if (!missingFaces(r).length) room.hand.tryIt(0)
  },
  handles: { of: endPlaces, move: dragEnd },
})
const tool = (how: Record['how'], id: string, name: string, says: string, group: string, belt: number) => ({
  id,
  name,
  says,
  group,
  belt,
  place: 1,
  slot: 'start',
  needs: (room: Room) => needSketch(room) ?? (how === 'cut' ? needBody(room) : null),
  begins: (room: Room) => {
    room.shown.show.scan = true
  },
  record: (room: Room) => record(room, how, doneOf(room, 'sketch').at(-1)!.id),
})

export default defineKind<Record, Told>({
  kind: 'extrude',
  stage: 'Build',
  title: (r) => (r.how === 'cut' ? 'Cut' : 'Extrude'),
  says: (r) =>
    r.how === 'cut' ? 'Take a sketch out of the body.' : 'Push a sketch through to where the scan ends.',
  tries: 'taken back',
  form: ExtrudeForm,
  slots: {
    start: end('start'),
    end: end('end'),
    loops: {
      takes: ['loop'],
      says: 'Click a loop to push it, or to leave it',
      put: (at, r, room) => {
        if (at.what !== 'loop' || at.sketch !== r.sketch) return
        r.loops = r.loops.includes(at.entity)
          ? r.loops.filter((i) => i !== at.entity)
          : [...r.loops, at.entity]
        if (!missingFaces(r).length) room.hand.tryIt(0)
      },
    },
  },
  tools: [
    tool('join', 'extrude', 'Extrude', 'Push a sketch through to where the scan ends', 'push and turn', 5),
    tool('cut', 'cut', 'Cut', 'Take a sketch out of the body', 'take away and join', 6),
  ],
  ready: endsGiven,
  verb: (_t, r) => (r.how === 'cut' ? 'Lay cut' : 'Lay extrude'),
  shows: (plan, r, _p, room) => {
    const sketch = room.job.byId.get(r.sketch)
    const told = room.job.toldOf<SketchTold>(sketch)
    return {
      body: room.hand.result ? { id: r.id ?? '', key: room.hand.result } : plan.body,
      loops: room.hand.slot === 'loops' && told ? loopsInSpace(r.sketch, told) : [],
    }
  },
  offers: (given, room) => {
    if (!given.length || needSketch(room) || given.some((g) => g.what !== 'loop')) return []
    const loops = given.flatMap((g) => (g.what === 'loop' ? [g] : []))
    const sketch = loops[0].sketch
    const told = room.job.toldOf<SketchTold>(room.job.byId.get(sketch))
    const ids = loops.filter((l) => l.sketch === sketch).map((l) => l.entity)
    const circle = told?.geometry.find((e) => e.id === ids[0] && e.kind === 'circle')
    const what = circle?.radius
      ? `⌀ ${short(2 * circle.radius)}`
      : `${ids.length} ${ids.length === 1 ? 'loop' : 'loops'}`
    const hows: { how: Record['how']; title: string; to: Record['end'] }[] = [
      { how: 'join', title: 'Extrude', to: face() },
      ...(room.job.body
        ? [{ how: 'cut' as const, title: 'Cut through', to: { ...face(), to: 'through' as const } }]
        : []),
    ]
    return hows.map(({ how, title, to }) => ({
      tool: how,
      title,
      why:
        how === 'cut'
          ? 'A closed loop can be taken out of the body there is.'
          : 'A closed loop makes a solid where it is pushed.',
      slot: 'start',
      record: {
        kind: 'extrude',
        ...record(room, how, sketch, ids),
        ...(how === 'cut' ? { start: to, end: to } : {}),
      } as StepRecord,
      known: how === 'join' ? { figure: `${what}, between two faces of the scan`, cost: 2 } : undefined,
      weigh: (got: Preview) => {
        const { volume } = got.summary as unknown as Told
        return { figure: `${what} right through, ${short(volume / 1000)} cm³ left`, cost: 1 }
      },
    }))
  },
  widens: (factor, r, room) => {
    const key = room.hand.slot === 'end' ? 'end' : 'start'
    const pick = r[key].pick
    if (pick) widenPick(pick, factor, r.scan, null, room)
  },
})
