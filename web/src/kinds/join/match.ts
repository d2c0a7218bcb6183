import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import JoinForm from './JoinForm.vue'
import PairView from './PairView.vue'
import { laidPlacement, needScans, ordered } from './placing'

type Record = Schemas['MatchStep']

const record = (room: Room, by: Record['by']): Partial<Record> => ({
  name: room.job.freeName('Rough match'),
  scans: ordered(room),
  pairs: [],
  by,
  placement: laidPlacement(room),
  noise: null,
})

export default defineKind<Record, Schemas['PlacementTold']>({
  kind: 'match',
  stage: 'Join',
  title: 'Rough match',
  says: 'Where each scan belongs, to a fraction of a millimetre.',
  tries: 'taken back',
  form: JoinForm,
  slots: { pairs: { takes: [], says: '' } },
  tools: [
    {
      id: 'match',
      name: 'Match by themselves',
      says: 'Every scan finds where it belongs, or says why not',
      also: 'align register automatic',
      group: 'match',
      needs: needScans,
      record: (room) => record(room, 'itself'),
      begins: (room) => room.hand.tryIt(0),
    },
    {
      id: 'pairs',
      name: 'Match by pairs',
      says: 'Click the same places on two scans, three or more',
      also: 'align register points',
      group: 'match',
      slot: 'pairs',
      needs: needScans,
      record: (room) => record(room, 'pairs'),
    },
  ],
  ready: (_r, preview) =>
    Object.keys(preview?.summary.motions ?? {}).length > 1 || 'No two scans have a place yet',
  verb: (t) => {
    const n = Object.keys(t?.motions ?? {}).length
    return t?.motions ? `Lay ${n} ${n === 1 ? 'place' : 'places'}` : 'Lay the places'
  },
  covers: (room) => (room.hand.slot === 'pairs' ? PairView : null),
})
