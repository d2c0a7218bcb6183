import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, onModel, showsBody } from './bodied'

export default defineKind<Schemas['ThickenStep'], Schemas['BodyTold']>({
  kind: 'thicken',
  stage: 'Build',
  title: 'Thicken',
  says: 'A surface as a solid of one thickness.',
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay thicken',
  tools: [
    {
      id: 'thicken',
      name: 'Thicken',
      says: 'A surface as a solid of one thickness.',
      also: 'offset sheet wall shell',
      group: 'surfaces',
      place: 7,
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Thicken'),
        body: room.job.body!.id,
        thickness: { value: 4, source: 'hand reading' },
      }),
    },
  ],
})
