import type { PickRecord, Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { placeSlot } from './onScan'

type Record = Omit<Schemas['PointStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['MadeDatumTold']

/** One place of the surface; taken up from what was picked for a datum, so it has no tool of its own. */
export default defineKind<Record, Told>({
  kind: 'read_point',
  stage: 'Frame',
  title: 'Point datum',
  says: 'One place of the surface, told by the facets about it.',
  tries: 'taken back',
  slots: { pick: placeSlot('Click the place on the scan') },
  ready: (r) => !!r.pick || 'Click the place on the scan',
  verb: () => 'Lay datum',
  figures: [
    {
      key: 'at',
      label: 'at',
      of: (t) => (t.parameters.point as number[]).map((v) => v.toFixed(3)).join('  '),
    },
    {
      key: 'place',
      label: 'across',
      of: (t) => `± ${Math.max(2 * t.place_uncertainty, 0.001).toFixed(3)} mm, along it as clicked`,
    },
  ],
  shows: (plan, _, preview) => ({
    scanOn: true,
    ...(preview?.summary.parameters && { made: preview.summary }),
    datums: plan.datums,
  }),
})
