import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import JoinForm from './JoinForm.vue'
import { laidPlacement, needPlaces } from './placing'

export default defineKind<Schemas['SettleStep'], Schemas['PlacementTold']>({
  kind: 'settle',
  stage: 'Join',
  title: 'Settled scans',
  says: 'All scans at once, so that error does not pile up around a ring.',
  form: JoinForm,
  tools: [
    {
      id: 'settle',
      name: 'Settle',
      says: 'All placed scans drawn onto each other at once',
      also: 'align fine global',
      group: 'bring together',
      place: 1,
      needs: needPlaces,
      record: (room) => ({
        name: room.job.freeName('Settled'),
        placement: laidPlacement(room)!,
        held: [],
        leave_out: [],
        reach: null,
      }),
    },
  ],
  ready: (_r, preview) => (!!preview && preview.status !== 'failed') || 'Being worked out',
  verb: () => 'Lay the settled places',
})
