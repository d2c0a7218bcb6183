import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { bodyFigures, frameOf, onModel, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { doneOf, needSketch } from '../picks'
import { laidCurves } from './shown'

type Record = Schemas['SweepStep']
const needs = (room: Room) => needSketch(room) ?? (doneOf(room, 'curve').length ? null : 'Lay a curve first.')

export default defineKind<Record, Schemas['SweepTold']>({
  kind: 'sweep',
  stage: 'Build',
  title: 'Sweep',
  says: 'Carry a sketch along a curve, from where it was drawn.',
  figures: [...bodyFigures, { key: 'length', label: 'along', of: (t) => `${t.length.toFixed(2)} mm` }],
  shows: (plan, r, p, room) => ({ ...showsBody(plan, r, p, room), ...laidCurves(plan, room) }),
  verb: () => 'Lay sweep',
  tools: [
    {
      id: 'sweep',
      name: 'Sweep',
      says: 'Carry a sketch along a curve; guided or twisted',
      also: 'pipe path profile extrude along guide twist',
      group: 'along curves',
      place: 1,
      needs,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Sweep'),
        sketch: doneOf(room, 'sketch').at(-1)!.id,
        path: doneOf(room, 'curve').at(-1)!.id,
        frame: frameOf(room),
        guide: null,
        hold: 'square',
        up: null,
        twist: { value: 0, source: 'typed' },
        body: null,
        how: 'join',
        result: 'solid',
        loops: [],
      }),
    },
  ],
})
