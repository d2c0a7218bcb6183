import type { Schemas } from '../../api/types'
import { across } from '../../view3d/plan'
import { defineKind } from '../kind'
import { needBody } from '../picks'

export default defineKind<Schemas['CheckStep'], Schemas['DeviationTold']>({
  kind: 'check',
  stage: 'Check',
  title: 'Deviation map',
  says: "Every point of the scan against the model's true surface. Points farther off than the reach are not answered.",
  tries: 'by itself',
  tools: [
    {
      id: 'check',
      name: 'Deviation map',
      says: 'Measure the scan against the model',
      also: 'compare colours tolerance',
      brief: 'Map',
      belt: 8,
      needs: needBody,
      record: (room) => ({
        name: room.job.freeName('Check'),
        scan: room.job.scan!.id,
        frame: room.job.frame!.id,
        body: room.job.body!.id,
        tolerance: 0.1,
        reach: Math.max(1, Number((0.005 * across(room.job.scan)).toPrecision(1))),
        angle_deg: 60,
      }),
    },
  ],
  laid: (room) => {
    room.shown.show.tide = true
  },
})
