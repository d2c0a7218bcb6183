import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { defineKind } from '../kind'
import { cleaner, length, onMesh, trianglesBefore, trianglesOf } from './cleaner'

export default defineKind<Schemas['DecimateStep'], Schemas['DecimateTold']>({
  kind: 'decimate',
  stage: 'Clean',
  title: 'Decimate',
  says: 'Fewer triangles where the surface is flat; edges stay. The deviation is measured both ways.',
  compares: 'moved too',
  tools: [
    cleaner(
      'decimate',
      'Decimate',
      'Fewer triangles, deviation measured',
      (room) => ({
        to: 'share',
        share: 0.25,
        triangles: Math.max(4, Math.round(trianglesOf(room) / 4)),
        tolerance: 0.05,
      }),
      { fits: onMesh, group: 'shape', place: 2, also: 'reduce simplify' },
    ),
  ],
  verb: (t) => (t ? `Leave ${whole(t.triangles)} triangles` : 'Decimate'),
  figures: [
    trianglesBefore,
    length('deviation_rms', 'deviation, rms'),
    length('deviation_max', 'deviation, most'),
  ],
})
