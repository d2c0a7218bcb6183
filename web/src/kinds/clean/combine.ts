import type { Schemas } from '../../api/types'
import { isCloud } from '../../state/job'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { onCloud } from './cleaner'
import CombineForm from './CombineForm.vue'

const clouds = (room: Room) => room.job.tips.filter(isCloud)

export default defineKind<Schemas['CombineStep'], Schemas['CombineTold']>({
  kind: 'combine',
  stage: 'Clean',
  title: 'Combined cloud',
  says: 'One cloud of several that lie in the same coordinates; where two have the same surface, the first stays.',
  tries: 'by itself',
  form: CombineForm,
  tools: [
    {
      id: 'combine',
      name: 'Combine clouds',
      says: 'One cloud of several, doubled layers dropped',
      group: 'cloud',
      fits: onCloud,
      needs: (room) => (clouds(room).length > 1 ? null : 'Needs two clouds.'),
      record: (room) => ({
        name: room.job.freeName('Combined'),
        scans: clouds(room).map((t) => t.id),
        layer: null,
      }),
    },
  ],
  ready: (r) => r.scans.length > 1 || 'Tick two clouds or more',
  verb: () => 'Combine the clouds',
})
