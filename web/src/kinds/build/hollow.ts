import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures } from './bodied'
import { facesSlot, onFaces, showsPicked } from './faces'

type Record = Schemas['HollowStep']

export default defineKind<Record, Schemas['HollowTold']>({
  kind: 'hollow',
  stage: 'Build',
  title: 'Hollow',
  says: 'Click the faces that are left open; walls are made within the others.',
  figures: bodyFigures,
  ready: (r) => r.open_faces.length > 0 || 'Click a face of the model that is left open',
  verb: (_t, r) => `Lay hollow, ${r.open_faces.length} open`,
  slots: { open_faces: facesSlot<Record>('open_faces', 'Click faces of the model that are left open') },
  shows: showsPicked,
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
      begins: onFaces,
      record: (room) => ({
        name: room.job.freeName('Hollow'),
        body: room.job.body!.id,
        thickness: { value: 2, source: 'typed' },
        open_faces: [],
      }),
    },
  ],
})
