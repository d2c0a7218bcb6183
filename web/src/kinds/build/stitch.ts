import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { bodyFigures, onModel, showsBody, twoBodies } from './bodied'

export default defineKind<Schemas['StitchStep'], Schemas['StitchTold']>({
  kind: 'stitch',
  stage: 'Build',
  title: 'Stitch',
  says: 'Surfaces made one where their rims meet; a solid where they close.',
  figures: [...bodyFigures, { key: 'open', label: 'open rims', of: (t) => String(t.open_rims) }],
  shows: showsBody,
  verb: () => 'Lay stitch',
  tools: [
    {
      id: 'stitch',
      name: 'Stitch',
      says: 'Surfaces made one where their rims meet; a solid where they close.',
      also: 'sew join surfaces shell watertight',
      group: 'surfaces',
      place: 6,
      needs: twoBodies,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Stitch'),
        body: room.job.body!.id,
        others: room.job.bodies.filter((b) => b.id !== room.job.body!.id).map((b) => b.id),
        reach: { value: 0.05, source: 'typed' },
      }),
    },
  ],
})
