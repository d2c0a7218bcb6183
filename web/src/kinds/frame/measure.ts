import type { Preview, Schemas, StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind, type Slot } from '../kind'
import { doneOf } from '../picks'
import { plusMinus } from './onScan'

type Record = Schemas['MeasureStep']
type Told = Schemas['MeasureTold']
type Key = 'first' | 'second'

const fresh = (room: Room, first: string, second: string): Partial<Record> => ({
  name: room.job.freeName('Measure'),
  first,
  second,
})
/** The hand goes on to the other end once one is given. */
function give(key: Key, id: string, r: Record, room: Room) {
  r[key] = id
  room.hand.slot = key === 'first' ? 'second' : 'first'
  room.hand.again()
}
const slot = (key: Key): Slot<Record> => ({
  takes: ['datum'],
  says: 'Click a datum in the view or the yard',
  put: (at, r, room) => {
    if (at.what === 'datum') give(key, at.id, r, room)
  },
  yard: { gives: ['datum'], put: (s, r, room) => give(key, s.id, r, room) },
})
export default defineKind<Record, Told>({
  kind: 'measure',
  stage: 'Frame',
  title: 'Measure',
  says: 'Distance and angle between two datums, with how sure they are.',
  slots: { first: slot('first'), second: slot('second') },
  tools: [
    {
      id: 'measure',
      name: 'Measure',
      says: 'Distance and angle between two datums',
      also: 'square corner spacing thickness angle distance',
      group: 'make',
      place: 2,
      slot: 'first',
      needs: (room) => (doneOf(room, 'datum').length > 1 ? null : 'Lay two datums first.'),
      record: (room) => {
        const [a, b] = doneOf(room, 'datum').slice(-2)
        return fresh(room, a.id, b.id)
      },
    },
  ],
  ready: (r) => r.first !== r.second || 'Choose two different datums',
  verb: () => 'Keep the note',
  figures: [
    {
      key: 'distance',
      label: 'distance',
      of: (t) =>
        t.distance === null ? 'they cross' : `${plusMinus(t.distance, t.distance_uncertainty, 3)} mm`,
    },
    {
      key: 'angle',
      label: 'angle',
      of: (t) => (t.angle_deg === null ? 'none' : `${plusMinus(t.angle_deg, t.angle_uncertainty, 3)}°`),
    },
  ],
  shows: (plan, r, preview, room) => ({
    datums: room.job.before(r.id, 'datum').map((s) => s.id),
    lines:
      preview && preview.summary.distance !== null
        ? [...plan.lines, { points: preview.summary.places, closed: false, colour: 'saffron', through: true }]
        : plan.lines,
  }),
  offers: (given, room) => {
    const ids = given.flatMap((g) => (g.what === 'datum' ? [g.id] : []))
    if (ids.length !== 2 || given.length !== 2) return []
    return [
      {
        tool: 'measure',
        title: 'Measure',
        why: 'Two datums lie some way and some angle apart.',
        record: { kind: 'measure', ...fresh(room, ids[0], ids[1]) } as StepRecord,
        weigh: (got: Preview) => ({ figure: (got.summary as unknown as Told).says ?? '', cost: 0.5 }),
      },
    ]
  },
})
