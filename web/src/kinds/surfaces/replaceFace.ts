import type { Schemas } from '../../api/types'
import { bodyFigures, twoBodies } from '../build/bodied'
import { onFaces, showsPicked } from '../build/faces'
import { defineKind } from '../kind'

type Record = Schemas['ReplaceFaceStep']

export default defineKind<Record, Schemas['BodyTold']>({
  kind: 'replaceface',
  stage: 'Build',
  title: 'Replace face',
  says: 'Click a face of a body; it becomes a surface that lies over it, above or below.',
  figures: bodyFigures,
  shows: showsPicked,
  ready: (r) =>
    (r.face === null && 'Click the face that is replaced') || r.by !== null || 'Name the surface it becomes',
  verb: () => 'Lay replaced face',
  slots: {
    face: {
      takes: ['face'],
      says: (r) =>
        r.face ? `${r.face.replace(/\//g, ' ')} becomes the surface` : 'Click the face that is replaced',
      put: (at, r, room) => {
        if (at.what !== 'face') return
        r.face = at.name
        room.hand.again(0)
      },
    },
  },
  tools: [
    {
      id: 'replace face',
      name: 'Replace face',
      says: 'A face of a body becomes a surface; the faces around it are led on to it',
      also: 'swap exchange face surface sheet onto',
      group: 'surfaces',
      place: 8,
      slot: 'face',
      needs: twoBodies,
      begins: onFaces,
      record: (room) => {
        const has = (s: { told: unknown }) => (s.told as { solids?: number }).solids
        const solid = room.job.bodies.filter(has).at(-1) ?? room.job.body!
        const surface = room.job.bodies.filter((b) => b.id !== solid.id && !has(b)).at(-1)
        return {
          name: room.job.freeName('Replaced face'),
          body: solid.id,
          face: null,
          by: surface?.id ?? null,
        }
      },
    },
  ],
})
