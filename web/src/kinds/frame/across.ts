import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { frameOf } from '../build/bodied'
import { drawnInSpace, type SketchTold } from '../build/loops'
import { curveLine, laidCurves } from '../curves/shown'
import { defineKind } from '../kind'
import type { LinePlan } from '../../view3d/plan'
import { doneOf, nearSlot, needFrame } from '../picks'

type Record = Schemas['AcrossStep']
type Told = Schemas['AcrossTold']

const along = (room: Room) => doneOf(room, 'curve').at(-1) ?? doneOf(room, 'sketch').at(-1)

export default defineKind<Record, Told>({
  kind: 'across_curve',
  stage: 'Frame',
  title: 'Plane across a curve',
  says: 'A plane that a curve, or an edge of a sketch, passes square: at a share of its length, or where you click.',
  tries: 'always',
  tools: [
    {
      id: 'across',
      name: 'Plane across a curve',
      says: 'Square to a curve or to an edge of a sketch, at a place along it',
      also: 'normal perpendicular path station trace',
      slot: 'near',
      group: 'make',
      needs: (room) => needFrame(room) ?? (along(room) ? null : 'Lay a sketch or a curve first.'),
      record: (room) => ({
        name: room.job.freeName('Plane across'),
        frame: frameOf(room),
        curve: along(room)!.id,
        share: 0.5,
        near: null,
      }),
    },
  ],
  slots: { near: nearSlot('Click near where it is to stand') },
  verb: () => 'Lay datum',
  figures: [
    { key: 'along', label: 'along it', of: (t) => `${t.along.toFixed(2)} of ${t.whole.toFixed(2)} mm` },
    {
      key: 'place',
      label: 'at',
      of: (t) => (t.parameters.point as number[]).map((v) => v.toFixed(3)).join('  '),
    },
  ],
  shows: (plan, r, preview, room) => {
    const drawn = room.job.given('sketch').find((s) => s.id === r.curve)
    const told = drawn && room.job.toldOf<SketchTold>(drawn)
    const edges = told ? drawnInSpace(told) : []
    return {
      lines: [
        ...laidCurves(plan, room).lines!,
        ...edges.map((points): LinePlan => ({ ...curveLine(points, false), in: 'view' })),
      ],
      scanOn: true,
      ...(preview?.summary.parameters && { made: preview.summary }),
    }
  },
})
