import type { EdgeName, Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { onModel } from './bodied'
import { edgesSlot, showsEdges } from './edges'
import EdgesForm from './EdgesForm.vue'

type Record = Schemas['ChamferStep'] & { edges: EdgeName[]; alike?: boolean }

export default defineKind<Record, Schemas['ChamferTold']>({
  kind: 'chamfer',
  stage: 'Build',
  title: 'Chamfer',
  says: 'Click near an edge; it is cut off by a leg read from the scan.',
  tries: 'by itself',
  form: EdgesForm,
  handOnly: ['alike'],
  slots: { edges: edgesSlot<Record>() },
  ready: (r) => r.edges.length > 0 || 'Click an edge of the model',
  verb: () => 'Lay chamfer',
  shows: showsEdges,
  tools: [
    {
      id: 'chamfer',
      name: 'Chamfer',
      says: 'Cut edges off by a leg read from the scan',
      also: 'bevel edge',
      group: 'edges and walls',
      place: 2,
      slot: 'edges',
      needs: needBody,
      begins: (room) => {
        onModel(room)
        room.shown.show.scan = false
      },
      record: (room) => ({
        name: room.job.freeName('Chamfer'),
        body: room.job.body!.id,
        scan: room.job.scan!.id,
        frame: room.job.frame!.id,
        edges: [],
        leg: { value: null, source: 'rounded' },
      }),
    },
  ],
})
