import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, frameOf } from './bodied'
import { facesSlot, onFaces, showsPicked } from './faces'

type Record = Schemas['LeanStep']

export default defineKind<Record, Schemas['LeanTold']>({
  kind: 'lean',
  stage: 'Build',
  title: 'Lean faces',
  says: 'Click upright faces; they lean by an angle, and keep their size at one height.',
  figures: bodyFigures,
  ready: (r) => r.faces.length > 0 || 'Click a face of the model that leans',
  verb: (_t, r) => `Lay ${r.faces.length} leaning`,
  slots: { faces: facesSlot<Record>('faces', 'Click faces of the model that lean') },
  shows: showsPicked,
  tools: [
    {
      id: 'lean',
      name: 'Lean faces',
      says: 'Upright faces leaned by an angle',
      also: 'draft taper mould',
      group: 'edges and walls',
      place: 5,
      slot: 'faces',
      needs: needBody,
      begins: onFaces,
      record: (room) => ({
        name: room.job.freeName('Leaning'),
        frame: frameOf(room),
        body: room.job.body!.id,
        axis: 'z',
        on: null,
        faces: [],
        angle: { value: 2, source: 'typed' },
        offset: { value: 0, source: 'typed' },
      }),
    },
  ],
})
