import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, frameOf, onModel, showsBody } from './bodied'

type Record = Schemas['RepeatStep']

export default defineKind<Record, Schemas['AxisTold']>({
  kind: 'repeat',
  stage: 'Build',
  title: 'Repeat',
  says: 'A body again and again, round an axis or along it; all follow the first.',
  figures: bodyFigures,
  shows: showsBody,
  verb: (_t, r) => `Lay ${r.count * (r.way === 'grid' ? r.rows : 1)} in a ${r.way}`,
  tools: [
    {
      id: 'repeat',
      name: 'Repeat',
      says: 'A body repeated in a ring, a row or a grid',
      also: 'pattern array circular linear ring row copies',
      group: 'repeat and move',
      place: 1,
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Repeated'),
        frame: frameOf(room),
        body: room.job.body!.id,
        axis: 'z',
        on: null,
        way: 'ring',
        count: 4,
        turn: { value: null, source: 'scan' },
        step: { value: 10, source: 'typed' },
        rows: 2,
        row_step: { value: 10, source: 'typed' },
      }),
    },
  ],
})
