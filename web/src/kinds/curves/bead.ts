import type { EdgeName, Schemas } from '../../api/types'
import { edgesSlot, showsEdges } from '../build/edges'
import { bodyFigures, frameOf, onModel } from '../build/bodied'
import { defineKind } from '../kind'
import { needBody } from '../picks'

type Record = Omit<Schemas['BeadStep'], 'edges'> & { edges: EdgeName[]; alike?: boolean }

export default defineKind<Record, Schemas['BeadTold']>({
  kind: 'bead',
  stage: 'Build',
  title: 'Weld bead',
  says: 'A round bead along edges of the model, or along a curve.',
  figures: [...bodyFigures, { key: 'length', label: 'along', of: (t) => `${t.length.toFixed(2)} mm` }],
  handOnly: ['alike'],
  tries: 'taken back',
  ready: (r) => r.edges.length > 0 || !!r.curve || 'Click an edge of the model, or name a curve',
  verb: () => 'Lay bead',
  slots: {
    edges: {
      ...edgesSlot<Record>(),
      put: async (at, r, room) => {
        await edgesSlot<Record>().put!(at, r, room)
        if (r.edges.length) room.hand.again(0)
        else room.hand.preview = null
      },
    },
  },
  shows: showsEdges,
  tools: [
    {
      id: 'bead',
      name: 'Weld bead',
      says: 'A round bead along edges or a curve, by its diameter',
      also: 'weld seam fillet bead',
      group: 'along curves',
      place: 4,
      slot: 'edges',
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Weld'),
        frame: frameOf(room),
        body: room.job.body!.id,
        curve: null,
        edges: [],
        diameter: { value: 5, source: 'hand reading' },
      }),
    },
  ],
})
