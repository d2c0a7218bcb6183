import type { Schemas } from '../../api/types'
import { begun, bodyFigures, onModel, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { needBody } from '../picks'

type Record = Schemas['ReachStep']
const typed = (value: number) => ({ value, source: 'typed' as const })

export default defineKind<Record, Schemas['BodyTold']>({
  kind: 'surfaceedit',
  stage: 'Build',
  title: 'Extend surface',
  says: 'A surface continued past its open rims, without its trimming, or laid beside itself.',
  figures: bodyFigures,
  shows: showsBody,
  verb: (_t, r) =>
    `Lay ${r.do === 'untrim' ? 'untrimmed surface' : r.do === 'offset' ? 'offset' : 'extension'}`,
  tools: [
    {
      id: 'extend surface',
      name: 'Extend',
      says: 'Continue a surface past its open rims, take its trimming off, or lay it beside itself',
      also: 'extend untrim offset parallel surface longer',
      group: 'surfaces',
      place: 4,
      needs: needBody,
      begins: onModel,
      record: (room) =>
        begun(room, 'Extension', {
          body: room.job.body!.id,
          do: 'extend',
          by: typed(5),
          runs: 'straight',
          sides: [],
        }) as Partial<Record>,
    },
  ],
})
