import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, frameOf, onModel, showsBody } from './bodied'

type Record = Schemas['MovedBodyStep']

export default defineKind<Record, Schemas['AxisTold']>({
  kind: 'bodymove',
  stage: 'Build',
  title: 'Move body',
  says: 'A body moved along an axis and turned about it.',
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay the move',
  tools: [
    {
      id: 'move body',
      name: 'Move body',
      says: 'A body moved along an axis and turned about it',
      also: 'shift rotate turn translate',
      group: 'repeat and move',
      place: 3,
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Moved'),
        frame: frameOf(room),
        body: room.job.body!.id,
        axis: 'z',
        on: null,
        step: { value: 0, source: 'typed' },
        turn: { value: 0, source: 'typed' },
      }),
    },
  ],
})
