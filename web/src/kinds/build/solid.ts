import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { bodyFigures, frameOf, needsFrame, onModel, showsBody } from './bodied'

type Record = Schemas['SolidStep']
const typed = (value: number) => ({ value, source: 'typed' as const })

export default defineKind<Record, Schemas['SolidTold']>({
  kind: 'solid',
  stage: 'Build',
  title: 'Solid',
  says: 'A cylinder, box, cone, ball or ring; a datum gives its axis and its size.',
  figures: bodyFigures,
  shows: showsBody,
  verb: (_t, r) => `Lay ${r.shape}`,
  slots: {
    on: {
      takes: ['datum'],
      says: 'Click a datum that gives its axis',
      put: (at, r, room) => {
        if (at.what !== 'datum') return
        r.on = at.id
        r.radius = { value: null, source: 'rounded' }
        room.hand.again(0)
      },
    },
  },
  tools: [
    {
      id: 'solid',
      name: 'Solid',
      says: 'A cylinder, box, cone, ball or ring, from a datum or by numbers',
      also: 'primitive cylinder box cube cone sphere ball ring torus pin rod',
      group: 'push and turn',
      place: 3,
      slot: 'on',
      needs: needsFrame,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Solid'),
        frame: frameOf(room),
        axis: 'z',
        on: null,
        shape: 'cylinder',
        place_x: 0,
        place_y: 0,
        place_z: 0,
        radius: typed(5),
        top_radius: typed(0),
        tube_radius: typed(1),
        width: typed(10),
        depth: typed(10),
        low: typed(0),
        high: typed(10),
      }),
    },
  ],
})
