import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { bodyFigures, frameOf, onModel, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { doneOf, needFrame } from '../picks'

type Record = Schemas['ThreadStep']
const helices = (room: Room) => doneOf(room, 'curve').filter((s) => 'pitch' in s.told)
const needs = (room: Room) => needFrame(room) ?? (helices(room).length ? null : 'Lay a helix first.')

export default defineKind<Record, Schemas['ThreadTold']>({
  kind: 'thread',
  stage: 'Build',
  title: 'Thread',
  says: 'A ridge or groove along a helix, with the profile the scan shows.',
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay thread',
  tools: [
    {
      id: 'thread',
      name: 'Thread',
      says: 'A ridge or groove all along a helix',
      also: 'screw ridge groove flight auger winding',
      group: 'along curves',
      place: 3,
      needs,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Thread'),
        helix: helices(room).at(-1)!.id,
        frame: frameOf(room),
        body: room.job.body?.id ?? null,
        how: 'join',
        tip: { value: null, source: 'rounded' },
        foot: { value: null, source: 'rounded' },
      }),
    },
  ],
})
