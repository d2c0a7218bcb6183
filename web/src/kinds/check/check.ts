import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { across } from '../../view3d/plan'
import { defineKind } from '../kind'
import { needScan } from '../picks'
import CheckForm from './CheckForm.vue'

type Record = Schemas['CheckStep']
/** A round length of a share of the scan's size. */
const share = (room: Room, of: number) => Number((of * across(room.job.scan)).toPrecision(1))
const against = (room: Room) => room.job.body ?? room.job.last('model')

export default defineKind<Record, Schemas['DeviationTold']>({
  kind: 'check',
  stage: 'Check',
  title: 'Deviation map',
  says: 'Every point of the scan against a true surface. Points farther off than the reach are not answered.',
  tries: 'by itself',
  form: CheckForm,
  slots: {
    marks: { takes: ['scan'], says: 'Mark what is not to count', marks: true },
  },
  tools: [
    {
      id: 'check',
      name: 'Deviation map',
      says: 'Measure the scan against the model',
      also: 'compare colours tolerance wear before after',
      group: 'deviation',
      brief: 'Map',
      belt: 8,
      needs: (room) =>
        needScan(room) ?? (against(room) || compared(room) ? null : 'Lay a body, or bring in a model.'),
      record: (room) => ({
        name: room.job.freeName('Check'),
        scan: room.job.scan!.id,
        frame: room.job.frame?.id ?? null,
        body: (against(room) ?? compared(room))!.id,
        also: [],
        beside: [],
        laid: 'as it lies',
        tolerance: Math.min(0.1, share(room, 1e-3)),
        low: null,
        reach: share(room, 0.01),
        angle_deg: 60,
        fineness: null,
        near_edges: null,
        marks: [],
        zones: room.job.last('zones')?.inputs.includes(room.job.scan!.id) ? room.job.last('zones')!.id : null,
        rules: [],
        pins: [],
        views: [],
      }),
    },
  ],
  verb: () => 'Lay deviation map',
  laid: (room) => {
    room.shown.show.tide = true
    room.shown.chosen = null
  },
})
/** Another scan, or a curve, where there is nothing else to compare with. */
const compared = (room: Room) =>
  room.job.tips.find((t) => t.id !== room.job.scan?.id) ?? room.job.last('curve') ?? null
