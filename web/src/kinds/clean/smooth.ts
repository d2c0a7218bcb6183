import type { Schemas } from '../../api/types'
import { mm } from '../../state/format'
import { defineKind } from '../kind'
import { cleaner, length, onMesh } from './cleaner'

type Told = Schemas['SmoothTold']

export default defineKind<Schemas['SmoothStep'], Told>({
  kind: 'smooth',
  stage: 'Clean',
  title: 'Smooth',
  says: 'Noise is calmed; edges and volume stay, and no vertex moves farther than the bound.',
  compares: 'moved too',
  tools: [
    cleaner('smooth', 'Smooth', 'Calm the noise within a bound', () => ({ strength: 0.4, bound: null }), {
      fits: onMesh,
      group: 'shape',
      place: 1,
      also: 'denoise calm',
    }),
  ],
  verb: () => 'Smooth the mesh',
  figures: [
    length('bound', 'bound', 3),
    length('moved_rms', 'moved, rms'),
    length('moved_max', 'moved, most'),
    { key: 'volume_change', label: 'volume', of: (t) => `${mm(100 * (t.volume_change ?? 0), 4)} %` },
  ],
})
