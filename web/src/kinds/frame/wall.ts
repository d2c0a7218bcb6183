import type { PickRecord, Preview, Schemas, StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { clicked, ONTO_SCAN, placeSlot, plusMinus } from './onScan'

type Record = Omit<Schemas['WallStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['MeasureTold']

const fresh = (room: Room, scan: string, pick: PickRecord | null): Partial<Record> => ({
  name: room.job.freeName('Wall'),
  scan,
  pick,
})
export default defineKind<Record, Told>({
  kind: 'wall',
  stage: 'Frame',
  title: 'Wall thickness',
  says: 'Click a wall: its thickness along its own normal to the other side.',
  tries: 'taken back',
  slots: {
    pick: placeSlot('Click the wall on the scan'),
  },
  tools: [
    {
      id: 'wall',
      name: 'Wall thickness',
      says: 'Through the wall at one place, along its normal',
      also: 'measure thick thin section ray',
      group: 'make',
      place: 3,
      ...ONTO_SCAN,
      record: (room) => fresh(room, room.job.scan!.id, null),
    },
  ],
  ready: (r) => !!r.pick || 'Click the wall on the scan',
  verb: () => 'Keep the note',
  figures: [
    {
      key: 'distance',
      label: 'thickness',
      of: (t) => `${plusMinus(t.distance!, t.distance_uncertainty, 3)} mm`,
    },
    { key: 'angle', label: 'sides lean', of: (t) => `${plusMinus(t.angle_deg!, t.angle_uncertainty, 2)}°` },
  ],
  shows: (plan, _, preview) => ({
    scanOn: true,
    lines: preview?.summary.places
      ? [...plan.lines, { points: preview.summary.places, closed: false, colour: 'saffron', through: true }]
      : plan.lines,
  }),
  offers: (given, room) => {
    const at = clicked(given)
    if (!at) return []
    return [
      {
        tool: 'wall',
        title: 'Wall thickness',
        slot: 'pick',
        record: { kind: 'wall', ...fresh(room, at.scan, at.pick) } as StepRecord,
        why: 'The scan has another side behind this place.',
        weigh: (got: Preview) => ({ figure: (got.summary as unknown as Told).says ?? '', cost: 3 }),
      },
    ]
  },
})
