import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { cleaner, number, onCloud } from './cleaner'

export default defineKind<Schemas['NormalsStep'], Schemas['NormalsTold']>({
  kind: 'normals',
  stage: 'Clean',
  title: 'Normals',
  says: 'Which way the surface faces at each point, all turned the same way round.',
  compares: 'before and after',
  tools: [
    cleaner('normals', 'Normals', 'Which way the surface faces at each point', () => ({ turned: false }), {
      fits: onCloud,
      group: 'cloud',
      place: 2,
    }),
  ],
  verb: () => 'Lay the normals',
  figures: [
    number('points', 'points'),
    { key: 'outward', label: 'face away from the middle', of: (t) => `${(100 * t.outward).toFixed(1)} %` },
  ],
})
