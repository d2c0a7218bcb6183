import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'

type Record = Schemas['ProbedStep']
type Told = Schemas['ProbedTold']

export default defineKind<Record, Told>({
  kind: 'probed',
  stage: 'Frame',
  title: (r) => `Touched ${r.element}`,
  says: 'What a probe touched, read from where its ball came to rest.',
  verb: () => 'Lay datum',
  figures: [
    { key: 'says', label: 'reads', of: (t) => t.says ?? '' },
    { key: 'touches', label: 'touches', of: (t) => String(t.touches) },
    { key: 'scatter', label: 'scatter', of: (t) => `${t.scatter.toPrecision(2)} mm` },
    {
      key: 'place',
      label: 'place',
      of: (t) => `± ${Math.max(2 * t.place_uncertainty, 0.001).toFixed(3)} mm`,
    },
  ],
  shows: (plan, _, preview) => ({
    scanOn: true,
    ...(preview?.summary.parameters && { made: preview.summary }),
    datums: plan.datums,
  }),
})
