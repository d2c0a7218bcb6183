import type { DatumLine, Matrix, Preview, Schemas, StepRecord, Stone } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind, type Slot } from '../kind'
import { doneOf } from '../picks'
import type { Key } from './order'
import FrameForm from './FrameForm.vue'
import { tried } from './trial'

type Record = Schemas['FrameStep']
type Told = Schemas['FrameTold']

/** Datums in the order of trust they would be given: planes first, an axis for the origin. */
function record(room: Room, datums: Stone[]): Partial<Record> {
  const roles = (s: Stone) => (s.told as unknown as DatumLine).roles ?? []
  const planes = datums.filter((s) => roles(s).includes('plane'))
  const axes = datums.filter((s) => roles(s).includes('axis'))
  const points = datums.filter((s) => roles(s).includes('middle') && !roles(s).includes('axis'))
  return {
    name: room.job.freeName('Part frame'),
    first: (planes[0] ?? datums[0]).id,
    second: planes[1]?.id ?? null,
    origin: (points[0] ?? axes.find((a) => a !== datums[0] || planes.length) ?? planes[2])?.id ?? null,
    first_axis: 'z',
    second_axis: 'y',
    flip_first: false,
    flip_second: false,
  }
}
const slot = (key: Key): Slot<Record> => ({
  takes: ['datum'],
  says: 'Click a datum in the view or the yard',
  put: (at, r, room) => {
    if (at.what !== 'datum') return
    r[key] = at.id
    room.hand.tryIt(0)
  },
  yard: {
    gives: ['datum'],
    put: (s, r, room) => {
      r[key] = s.id
      room.hand.tryIt(0)
    },
  },
})

export default defineKind<Record, Told>({
  kind: 'frame',
  stage: 'Frame',
  title: 'Frame',
  says: "The part's own axes, from datums in order of trust.",
  form: FrameForm,
  slots: { first: slot('first'), second: slot('second'), origin: slot('origin') },
  tools: [
    {
      id: 'frame',
      name: 'Set frame',
      says: 'Put the part on its own axes',
      also: 'align coordinates axes',
      group: 'set',
      brief: 'Frame',
      belt: 3,
      needs: (room) => (doneOf(room, 'datum').length ? null : 'Lay a datum first.'),
      record: (room) => record(room, doneOf(room, 'datum')),
    },
  ],
  verb: () => 'Lay frame',
  shows: (plan, r, preview, room) => {
    const set = preview?.summary.matrix as Matrix | undefined
    const matrix = set && tried(set, preview!.summary.open as string[])
    return {
      matrix: matrix ?? plan.matrix,
      staysPut: matrix !== set,
      scan: plan.scan && { ...plan.scan, matrix: matrix ?? plan.scan.matrix },
      datums: room.hand.slot
        ? room.job.before(r.id, 'datum').map((s) => s.id)
        : [...new Set([...plan.datums, r.first, r.second, r.origin].filter((id) => id !== null))],
    }
  },
  laid: (room) => {
    room.shown.show.scan = true
  },
  offers: (given, room) => {
    const datums = given.flatMap((g) => (g.what === 'datum' ? [room.job.byId.get(g.id)!] : []))
    if (!datums.length || datums.length !== given.length) return []
    return [
      {
        tool: 'frame',
        title: 'Frame',
        why: (got) =>
          got && !(got.summary as unknown as Told).open.length
            ? 'These datums hold the part in all six freedoms.'
            : 'These datums hold the part in part; more of them hold the rest.',
        record: { kind: 'frame', ...record(room, datums) } as StepRecord,
        weigh: (got: Preview) => {
          const t = got.summary as unknown as Told
          const off = Math.max(0, ...t.misses.map((m) => Math.abs(m.degrees)))
          const held = t.open.length ? `open: ${t.open.join(', ')}` : 'all six freedoms held'
          return {
            figure: t.misses.length ? `${held} · ${off.toFixed(3)}° apart` : held,
            cost: t.open_freedoms,
          }
        },
      },
    ]
  },
})
