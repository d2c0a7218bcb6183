import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { needBody } from '../picks'
import { bodyFigures, frameOf, onModel, showsBody } from './bodied'
import { alongAxis } from './dragged'

type Record = Schemas['CutOffStep']
type Told = Schemas['AxisTold']

export default defineKind<Record, Told>({
  kind: 'cutoff',
  stage: 'Build',
  title: 'Cut off',
  says: 'Cut a body off by a plane; the side that stays is named.',
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay cut off',
  slots: {
    on: {
      takes: ['datum'],
      says: 'Click a datum that gives the plane; drag the dot to move it',
      put: (at, r, room) => {
        if (at.what !== 'datum') return
        r.on = at.id
        room.hand.again(0)
      },
      handles: alongAxis<Record, Told>(['offset'], ({ axis: [p, d] }) =>
        p.reduce((t, c, k) => t + c * d[k], 0),
      ),
    },
  },
  tools: [
    {
      id: 'cut off',
      name: 'Cut off',
      says: 'Cut a body off by a plane and keep one side',
      also: 'trim split plane half',
      group: 'take away and join',
      place: 3,
      slot: 'on',
      needs: needBody,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Cut off'),
        frame: frameOf(room),
        body: room.job.body!.id,
        axis: 'z',
        on: null,
        offset: { value: 0, source: 'typed' },
        keep: 'behind',
      }),
    },
  ],
})
