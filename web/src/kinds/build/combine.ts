import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { bodyFigures, onModel, showsBody, twoBodies } from './bodied'

type Record = Schemas['CombineBodiesStep']
const WORD = { join: 'Lay join', cut: 'Lay cut', intersect: 'Lay common part' }

export default defineKind<Record, Schemas['BodyTold']>({
  kind: 'bodycombine',
  stage: 'Build',
  title: 'Combine bodies',
  says: 'Whole bodies joined, cut from one, or what they share; chosen by name, changed at any time.',
  figures: bodyFigures,
  shows: showsBody,
  ready: (r) => r.tools.length > 0 || 'Name the bodies it is combined with',
  verb: (_t, r) => WORD[r.how],
  tools: [
    {
      id: 'combine bodies',
      name: 'Combine bodies',
      says: 'Join whole bodies, or cut some from one',
      also: 'boolean subtract union add intersect join unite tool',
      group: 'take away and join',
      place: 2,
      needs: twoBodies,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Combined'),
        body: room.job.bodies[0].id,
        how: 'cut',
        tools: [room.job.bodies.at(-1)!.id],
      }),
    },
  ],
})
