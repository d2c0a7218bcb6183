import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import type { LinePlan } from '../../view3d/plan'
import { bodyFigures, frameOf, onModel, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { doneOf, needSketch } from '../picks'
import LoftForm from './LoftForm.vue'
import { laidCurves } from './shown'

type Record = Schemas['LoftStep']
type Told = Schemas['LoftTold']
const needs = (room: Room) =>
  needSketch(room) ?? (doneOf(room, 'sketch').length > 1 ? null : 'Lay a second sketch first.')

export default defineKind<Record, Told>({
  kind: 'loft',
  stage: 'Build',
  title: 'Loft',
  says: 'A skin over sketches, in their order; curves can guide it between them.',
  form: LoftForm,
  figures: bodyFigures,
  ready: (r) => r.sections.length > 1 || 'Name at least two sections',
  shows: (plan, r, p, room) => {
    const told = room.hand.told as Told | null
    const matches = (told?.shown ?? []).map((points): LinePlan => ({
      points,
      closed: false,
      colour: 'saffron',
      through: true,
    }))
    const curves = laidCurves(plan, room).lines!
    return { ...showsBody(plan, r, p, room), lines: [...curves, ...matches] }
  },
  verb: () => 'Lay loft',
  tools: [
    {
      id: 'loft',
      name: 'Loft',
      says: 'A skin over two and more sketches, with guides',
      also: 'skin blend sections transition guide',
      group: 'along curves',
      place: 2,
      needs,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Loft'),
        frame: frameOf(room),
        sections: doneOf(room, 'sketch').map((s) => s.id),
        guides: [],
        ruled: false,
        begin: 'free',
        end: 'free',
        starts: [],
        result: 'solid',
        body: null,
        how: 'join',
      }),
    },
  ],
})
