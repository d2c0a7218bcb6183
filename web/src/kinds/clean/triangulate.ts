import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { cleaner, length, number, onCloud } from './cleaner'

export default defineKind<Schemas['TriangulateStep'], Schemas['TriangulateTold']>({
  kind: 'triangulate',
  stage: 'Clean',
  title: 'Triangulate',
  says: 'A mesh through the cloud, open where nothing was seen.',
  compares: 'before and after',
  tools: [
    cleaner(
      'triangulate',
      'Triangulate',
      'A mesh through the cloud',
      () => ({ accuracy: null, resolution: null }),
      { fits: onCloud, group: 'cloud', place: 3, also: 'mesh' },
    ),
  ],
  verb: () => 'Lay the mesh',
  figures: [
    number('triangles', 'triangles'),
    length('resolution', 'edge length', 3),
    length('rms', 'points off it, rms'),
    length('max', 'most', 3),
  ],
})
