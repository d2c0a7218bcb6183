import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { cleaner, onMesh, trianglesBefore } from './cleaner'

export default defineKind<Schemas['WatertightStep'], Schemas['WatertightTold']>({
  kind: 'watertight',
  stage: 'Clean',
  title: 'Watertight',
  says: 'Defects repaired, every rim closed, scraps gone: a closed mesh for printing.',
  compares: 'before and after',
  tools: [
    cleaner('watertight', 'Watertight', 'Closed and sound, for printing', () => ({ shape: 'tangent' }), {
      fits: onMesh,
      group: 'close',
      place: 3,
    }),
  ],
  verb: () => 'Lay the closed mesh',
  figures: [
    trianglesBefore,
    { key: 'volume', label: 'volume', of: (t) => `${(t.volume / 1000).toPrecision(6)} cm³` },
  ],
})
