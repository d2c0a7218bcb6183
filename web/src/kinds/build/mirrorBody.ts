import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, frameOf, onModel, showsBody } from './bodied'

type Record = Schemas['MirroredBodyStep']

export default defineKind<Record, Schemas['AxisTold']>({
  kind: 'bodymirror',
  stage: 'Build',
  title: 'Mirror body',
  says: "A body's image in a plane, joined with it or alone.",
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay the image',
  tools: [
    {
      id: 'mirror body',
      name: 'Mirror body',
      says: "A body's image in a plane",
      also: 'symmetric half reflect',
      group: 'repeat and move',
      place: 2,
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Mirrored'),
        frame: frameOf(room),
        body: room.job.body!.id,
        axis: 'x',
        on: null,
        keep: true,
      }),
    },
  ],
})
