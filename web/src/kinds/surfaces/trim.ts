import type { Schemas } from '../../api/types'
import { begun, bodyFigures, frameOf, onModel, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { needBody } from '../picks'

type Record = Schemas['TrimStep']

export default defineKind<Record, Schemas['BodyTold']>({
  kind: 'surfacetrim',
  stage: 'Build',
  title: 'Trim',
  says: 'Part a surface or a body by a surface or a plane; the side that stays is told by its normal.',
  figures: bodyFigures,
  shows: showsBody,
  ready: (r) => r.by !== null || r.on !== null || 'Name a surface or a plane that parts it',
  verb: () => 'Lay trim',
  slots: {
    on: {
      takes: ['datum'],
      says: 'Click a plane that parts it, or name a surface',
      put: (at, r, room) => {
        if (at.what !== 'datum') return
        r.on = at.id
        r.by = null
        room.hand.again(0)
      },
    },
  },
  tools: [
    {
      id: 'trim surface',
      name: 'Trim',
      says: 'Part a surface or body by a surface or plane; two surfaces trim each other and join',
      also: 'trim cut surface split mutual untrim intersect divide',
      group: 'surfaces',
      place: 5,
      slot: 'on',
      needs: needBody,
      begins: onModel,
      record: (room) => {
        const others = room.job.bodies.filter((b) => b.id !== room.job.body!.id)
        return begun(room, 'Trim', {
          body: room.job.body!.id,
          frame: frameOf(room),
          by: others.at(-1)?.id ?? null,
          on: null,
          keep: 'behind',
          both: false,
          keep_other: 'behind',
        }) as Partial<Record>
      },
    },
  ],
})
