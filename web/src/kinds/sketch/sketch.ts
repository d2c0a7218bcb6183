import type { Schemas } from '../../api/types'
import { useSketch } from '../../paper/sketch'
import { defineKind, type Tool } from '../kind'
import { needFrame } from '../picks'
import { cutShown } from './cut'
import { freeId } from './names'
import SketchForm from './SketchForm.vue'

type Sketch = Schemas['SketchStep']
const blank = (room: Parameters<Tool['record']>[0], more: Partial<Sketch>): Partial<Sketch> => ({
  name: room.job.freeName('Sketch'),
  scan: room.job.scan!.id,
  frame: room.job.frame!.id,
  axis: 'z',
  along: false,
  on: null,
  on_face: null,
  share: 0,
  height: 0,
  turn_deg: 0,
  lean_deg: 0,
  traces: [{ kind: 'cut', offset: 0, depth: null, hidden: false, counts: true }],
  only: [],
  projected: [],
  strokes: [],
  relations: [],
  sizes: [],
  ...more,
})
const trace = (kind: Sketch['traces'][number]['kind']): Sketch['traces'] => [
  { kind, offset: 0, depth: null, hidden: false, counts: true },
]
const begins = () => {
  const s = useSketch()
  s.group = 'fit'
  s.begin()
}

export default defineKind<Sketch, Schemas['SketchTold']>({
  kind: 'sketch',
  stage: 'Sketch',
  title: 'Sketch',
  says: 'Lay a paper through the scan, then draw over its trace.',
  tries: 'taken back',
  form: SketchForm,
  paper: true,
  slots: {
    only: { takes: ['scan'], says: '', marks: 'later' },
    face: {
      takes: ['face'],
      says: 'Click a flat face of the model: the paper lies on it',
      put: (at, r, room) => {
        if (at.what !== 'face') return
        Object.assign(r, { on: at.body, on_face: at.name, along: false, height: 0 })
        room.hand.slot = null
        useSketch().begin()
        if (r.strokes.length) room.hand.tryIt()
      },
    },
    edge: {
      takes: ['edge'],
      says: 'Click edges of the model: they are seen on the paper, or taken off it',
      put: (at, r, room) => {
        if (at.what !== 'edge') return
        const is = (p: Sketch['projected'][number]) => p.of === at.body && p.edge?.join() === at.name.join()
        if (r.projected.some(is)) r.projected = r.projected.filter((p) => !is(p))
        else r.projected.push({ id: freeId(r), of: at.body, entity: null, edge: [...at.name] })
        if (r.strokes.length) room.hand.tryIt()
      },
    },
  },
  tools: [
    {
      id: 'sketch',
      name: 'Sketch on a cut',
      says: 'Cut the scan with a plane and draw over the trace',
      also: 'section slice outline slab',
      group: 'on a plane',
      brief: 'Sketch',
      belt: 4,
      place: 1,
      needs: needFrame,
      begins,
      record: (room) => blank(room, {}),
    },
    {
      id: 'sketch seen',
      name: 'Sketch on the silhouette',
      says: 'Draw over the outline and through-holes seen along a direction',
      also: 'silhouette outline projection shadow',
      group: 'on a plane',
      place: 2,
      needs: needFrame,
      begins: () => (useSketch().group = 'fit'),
      record: (room) => blank(room, { traces: trace('silhouette') }),
    },
    {
      id: 'sketch turned',
      name: 'Sketch on a turned profile',
      says: 'Turn everything into one half-plane about an axis and draw over it',
      also: 'revolve lathe turned profile half',
      group: 'on a plane',
      place: 3,
      needs: needFrame,
      begins: () => (useSketch().group = 'fit'),
      record: (room) => blank(room, { along: true, traces: trace('turned') }),
    },
    {
      id: 'sketch across a curve',
      name: 'Sketch square to a curve',
      says: 'A paper square to a curve, anywhere along it, with the trace of the scan there',
      also: 'section along path normal plane profile',
      group: 'in space',
      place: 2,
      needs: (room) => needFrame(room) ?? (room.job.given('curve').length ? null : 'Lay a curve first.'),
      begins: () => (useSketch().group = 'fit'),
      record: (room) => blank(room, { on: room.job.given('curve').at(-1)!.id, share: 0.5 }),
    },
  ],
  ready: (r) =>
    useSketch().drawing ? 'Wait for the change' : r.strokes.length > 0 || 'Draw or fit something first',
  verb: () => 'Lay sketch',
  shows: (plan, _record, _preview, room) => cutShown(plan, room),
  steps: (forward) => useSketch().step(forward),
  escapes: () => useSketch().back(),
})
