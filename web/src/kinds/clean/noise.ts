import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { defineKind } from '../kind'
import { cleaner, length, number, onCloud } from './cleaner'

export default defineKind<Schemas['NoiseStep'], Schemas['NoiseTold']>({
  kind: 'noise',
  stage: 'Clean',
  title: 'Noise',
  says: 'Points off the surface around them, and small clumps apart. What would go is shown in brick first.',
  compares: 'before and after',
  goes: 'goes',
  tools: [
    cleaner(
      'noise',
      'Noise',
      'Points off the surface, and clumps apart',
      () => ({ strictness: 4, smallest_clump: 40 }),
      { fits: onCloud, group: 'take away', also: 'outliers strays' },
    ),
  ],
  verb: (t) => (t?.goes ? `Clear away ${whole(t.goes)} points` : 'Clear away noise'),
  figures: [
    number('off', 'off the surface'),
    number('clumps', 'in clumps'),
    { key: 'points', label: 'stays', of: (t) => `${whole(t.points)} points` },
    length('scatter', 'scatter'),
  ],
})
