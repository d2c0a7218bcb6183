import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { doneOf, needSketch } from '../picks'
import { bodyFigures, frameOf, onModel, showsBody } from './bodied'

type Record = Schemas['RevolveStep']

export default defineKind<Record, Schemas['RevolveTold']>({
  kind: 'revolve',
  stage: 'Build',
  title: 'Revolve',
  says: 'Turn a sketch about an axis of its paper, or a line drawn in it.',
  figures: bodyFigures,
  shows: showsBody,
  verb: () => 'Lay revolve',
  tools: [
    {
      id: 'revolve',
      name: 'Revolve',
      says: 'Turn a sketch about an axis',
      also: 'turn lathe round rotation profile',
      group: 'push and turn',
      place: 2,
      needs: needSketch,
      begins: onModel,
      record: (room) => ({
        name: room.job.freeName('Turned'),
        sketch: doneOf(room, 'sketch').at(-1)!.id,
        frame: frameOf(room),
        body: null,
        how: 'join',
        about: 'up',
        line: null,
        loops: [],
        keep_inner: true,
        angle: { value: 360, source: 'typed' },
      }),
    },
  ],
})
