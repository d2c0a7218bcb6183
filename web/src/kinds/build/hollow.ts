import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, onModel } from './bodied'

type Record = Schemas['HollowStep']

export default defineKind<Record, Schemas['HollowTold']>({
  kind: 'hollow',
  stage: 'Build',
  title: 'Hollow',
  says: 'Click the faces that are left open; walls are made within the others.',
  figures: bodyFigures,
  ready: (r) => r.open_faces.length > 0 || 'Click a face of the model that is left open',
  verb: (_t, r) => `Lay hollow, ${r.open_faces.length} open`,
  slots: {
    open_faces: {
      takes: ['face'],
      says: 'Click faces of the model that are left open',
      put: (at, r, room) => {
        if (at.what !== 'face') return
        r.open_faces = r.open_faces.includes(at.name)
          ? r.open_faces.filter((n) => n !== at.name)
          : [...r.open_faces, at.name]
        if (r.open_faces.length) room.hand.again(0)
        else room.hand.preview = null
      },
    },
  },
  shows: (plan, r, _p, room) => ({
    body: room.hand.result ? { id: r.id ?? '', key: room.hand.result } : plan.body,
  }),
  tools: [
    {
      id: 'hollow',
      name: 'Hollow',
      says: 'Walls of one thickness, open where faces are clicked',
      also: 'shell wall thin thickness',
      group: 'edges and walls',
      place: 3,
      slot: 'open_faces',
      needs: needBody,
      begins: (room) => {
        onModel(room)
        room.shown.show.scan = false
      },
      record: (room) => ({
        name: room.job.freeName('Hollow'),
        body: room.job.body!.id,
        thickness: { value: 2, source: 'typed' },
        open_faces: [],
      }),
    },
  ],
})
