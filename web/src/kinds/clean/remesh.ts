import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { cleaner, length, onMesh, someLength, trianglesBefore } from './cleaner'

export default defineKind<Schemas['RemeshStep'], Schemas['RemeshTold']>({
  kind: 'remesh',
  stage: 'Clean',
  title: 'Remesh',
  says: 'Even triangles on the same surface; sharp edges and open rims stay where they are.',
  compares: 'moved too',
  tools: [
    cleaner(
      'remesh',
      'Remesh',
      'Even triangles of a chosen edge length',
      (room) => ({ edge: someLength(room) }),
      {
        fits: onMesh,
        group: 'shape',
        place: 3,
      },
    ),
  ],
  verb: () => 'Lay even triangles',
  figures: [
    trianglesBefore,
    length('edge_median', 'edge, middle', 3),
    { key: 'edge_spread', label: 'edge spread', of: (t) => `${t.edge_spread.toFixed(2)} ×` },
    length('deviation_max', 'deviation, most'),
  ],
})
