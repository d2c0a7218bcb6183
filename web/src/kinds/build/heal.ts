import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures } from './bodied'
import { facesSlot, onFaces, showsPicked } from './faces'

type Record = Schemas['HealStep']

export default defineKind<Record, Schemas['HollowTold']>({
  kind: 'heal',
  stage: 'Build',
  title: 'Heal over',
  says: 'Click all faces of a feature; they are taken off and those around them grown until they meet.',
  figures: bodyFigures,
  ready: (r) => r.faces.length > 0 || 'Click a face of the model that is taken off',
  verb: (_t, r) => `Lay without ${r.faces.length} ${r.faces.length === 1 ? 'face' : 'faces'}`,
  slots: { faces: facesSlot<Record>('faces', 'Click faces of the model that are taken off') },
  shows: showsPicked,
  tools: [
    {
      id: 'heal',
      name: 'Heal over',
      says: 'Faces taken off, the rest grown over them',
      also: 'delete remove face defeature close',
      group: 'edges and walls',
      place: 4,
      slot: 'faces',
      needs: needBody,
      begins: onFaces,
      record: (room) => ({ name: room.job.freeName('Healed'), body: room.job.body!.id, faces: [] }),
    },
  ],
})
