import type { PickRecord, Preview, Schemas, StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { OUTLINE_OF } from './elements'
import { clicked, ONTO_SCAN, placeSlot } from './onScan'
import OutlineForm from './OutlineForm.vue'

type Record = Omit<Schemas['OutlineStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['OutlineTold']

const fresh = (room: Room, scan: string, pick: PickRecord | null): Partial<Record> => ({
  name: room.job.freeName('Outline'),
  scan,
  pick,
  shape: 'best',
  on: null,
  along: null,
})

export default defineKind<Record, Told>({
  kind: 'flat_outline',
  stage: 'Frame',
  title: (r) => (r.shape === 'best' ? 'Read an outline' : `${OUTLINE_OF[r.shape]} datum`),
  says: 'Click the wall of a hole, a pocket or a boss: it is read as a circle, a slot or a rectangle on a plane.',
  tries: 'taken back',
  form: OutlineForm,
  slots: {
    pick: placeSlot('Click the wall along the outline'),
  },
  tools: [
    {
      id: 'outline',
      name: 'Read an outline',
      brief: 'Outline',
      says: 'A circle, slot or rectangle, from one place on the wall along it',
      also: 'slot rectangle circle pocket window hole round corner oblong',
      group: 'read',
      ...ONTO_SCAN,
      record: (room) => fresh(room, room.job.scan!.id, null),
    },
  ],
  ready: (r) => !!r.pick || 'Click the wall along the outline',
  verb: () => 'Lay datum',
  shows: (plan, _, preview) => ({
    scanOn: true,
    ...(preview?.summary.parameters && { made: preview.summary }),
    datums: plan.datums,
  }),
  offers: (given, room) => {
    const at = clicked(given)
    if (!at) return []
    return [
      {
        tool: 'outline',
        title: 'Outline',
        slot: 'pick',
        record: { kind: 'flat_outline', ...fresh(room, at.scan, at.pick) } as StepRecord,
        why: 'The wall here goes all the way round.',
        weigh: (got: Preview) => {
          const t = got.summary as unknown as Told
          const sign = t.element === 'circle' ? '' : `${OUTLINE_OF[t.element].toLowerCase()} `
          return {
            title: OUTLINE_OF[t.element],
            figure: `${sign}${t.says} · scatter ${t.scatter.toPrecision(2)}`,
            cost: 2,
          }
        },
      },
    ]
  },
})
