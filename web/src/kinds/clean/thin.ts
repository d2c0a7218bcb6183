import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { defineKind } from '../kind'
import { cleaner, onCloud, someLength } from './cleaner'

export default defineKind<Schemas['ThinStep'], Schemas['ThinTold']>({
  kind: 'thin',
  stage: 'Clean',
  title: 'Thin out',
  says: 'Even spacing, or sparser where the surface is flat.',
  compares: 'before and after',
  tools: [
    cleaner(
      'thin',
      'Thin out',
      'Fewer points, evenly or by curvature',
      (room) => ({ spacing: someLength(room) / 4, flat_spacing: null }),
      { fits: onCloud, group: 'cloud', place: 1, also: 'sample' },
    ),
  ],
  verb: (t) => (t ? `Leave ${whole(t.points)} points` : 'Thin out'),
  figures: [{ key: 'points', label: 'points', of: (t) => `${whole(t.before)} → ${whole(t.points)}` }],
})
