import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needFrame } from '../picks'
import { cutShown } from './cut'
import SketchForm from './SketchForm.vue'

export default defineKind<Schemas['SketchStep'], Schemas['SketchTold']>({
  kind: 'sketch',
  stage: 'Sketch',
  title: 'Sketch',
  says: 'Drag the plane through the scan, then draw over its trace.',
  tries: 'taken back',
  form: SketchForm,
  paper: true,
  tools: [
    {
      id: 'sketch',
      name: 'Sketch on a cut',
      says: 'Cut the scan with a plane and draw over the trace',
      also: 'section slice outline',
      group: 'on a plane',
      brief: 'Sketch',
      belt: 4,
      needs: needFrame,
      record: (room) => ({
        name: room.job.freeName('Sketch'),
        scan: room.job.scan!.id,
        frame: room.job.frame!.id,
        axis: 'z',
        height: 0,
        strokes: [],
        relations: [],
        sizes: [],
      }),
    },
  ],
  ready: (r) => r.strokes.length > 0 || 'Draw a line, an arc or a circle first',
  verb: () => 'Lay sketch',
  shows: (plan, _record, _preview, room) => cutShown(plan, room),
})
