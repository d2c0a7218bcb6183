import type { Schemas } from '../../api/types'
import { frameOf } from '../build/bodied'
import { laidCurves } from '../curves/shown'
import { defineKind } from '../kind'
import { doneOf, needFrame } from '../picks'

type Record = Schemas['AcrossStep']
type Told = Schemas['AcrossTold']

export default defineKind<Record, Told>({
  kind: 'across_curve',
  stage: 'Frame',
  title: 'Plane across a curve',
  says: 'A plane that a curve passes square, at a place along it.',
  tries: 'always',
  tools: [
    {
      id: 'across',
      name: 'Plane across a curve',
      says: 'Square to a curve, at a place along it',
      also: 'normal perpendicular path station',
      group: 'make',
      needs: (room) => needFrame(room) ?? (doneOf(room, 'curve').length ? null : 'Lay a curve first.'),
      record: (room) => ({
        name: room.job.freeName('Plane across'),
        frame: frameOf(room),
        curve: doneOf(room, 'curve').at(-1)!.id,
        share: 0.5,
      }),
    },
  ],
  verb: () => 'Lay datum',
  figures: [
    { key: 'along', label: 'along it', of: (t) => `${t.along.toFixed(2)} of ${t.whole.toFixed(2)} mm` },
    {
      key: 'place',
      label: 'at',
      of: (t) => (t.parameters.point as number[]).map((v) => v.toFixed(3)).join('  '),
    },
  ],
  shows: (plan, _, preview, room) => ({
    ...laidCurves(plan, room),
    ...(preview?.summary.parameters && { made: preview.summary }),
  }),
})
