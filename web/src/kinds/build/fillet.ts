import type { EdgeName, Preview, Schemas, StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { edgesSlot, showsEdges } from './edges'
import EdgesForm from './EdgesForm.vue'

/**
 * `alike`: whether an edge clicked brings all between the same two features; the hand's own,
 * not the step's.
 */
type Record = Schemas['FilletStep'] & { alike?: boolean }
type Told = Schemas['FilletTold']

const record = (room: Room, edges: EdgeName[]): Partial<Record> => ({
  name: room.job.freeName('Fillet'),
  scan: room.job.scan!.id,
  frame: room.job.frame!.id,
  body: room.job.body!.id,
  edges,
  radius: { value: null, source: 'rounded' },
})

export default defineKind<Record, Told>({
  kind: 'fillet',
  stage: 'Build',
  title: 'Fillet',
  says: 'Click near an edge; its radius is read from the scan.',
  tries: 'by itself',
  form: EdgesForm,
  handOnly: ['alike'],
  slots: { edges: edgesSlot<Record>() },
  tools: [
    {
      id: 'fillet',
      name: 'Fillet',
      says: 'Round edges with a radius read from the scan',
      also: 'round rounding radius',
      group: 'edges and walls',
      belt: 7,
      place: 1,
      slot: 'edges',
      needs: needBody,
      record: (room) => record(room, []),
      begins: (room) => {
        room.shown.model = true
        room.shown.show.scan = false
      },
    },
  ],
  ready: (r) => r.edges.length > 0 || 'Click an edge of the model',
  verb: () => 'Lay fillet',
  shows: showsEdges,
  offers: (given, room) => {
    const edges = given.flatMap((g) => (g.what === 'edge' ? [g.name] : []))
    if (!edges.length || edges.length !== given.length || needBody(room)) return []
    return [
      {
        tool: 'fillet',
        title: edges.length === 1 ? 'Fillet' : `Fillet of ${edges.length} edges`,
        slot: 'edges',
        why: 'Under the edge the scan is round: the radius is read there.',
        record: { kind: 'fillet', ...record(room, edges) } as StepRecord,
        weigh: (got: Preview) => {
          const read = (got.summary as unknown as Told).readings.radius
          if (!read) return null
          const off = 2 * read.uncertainty < 0.0005 ? '<0.001' : (2 * read.uncertainty).toFixed(3)
          return {
            figure: `R ${read.value.toFixed(3)} ± ${off} · scatter ${read.scatter.toFixed(3)}`,
            cost: read.scatter,
          }
        },
      },
    ]
  },
})
