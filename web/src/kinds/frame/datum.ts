import type { PickRecord, Preview, Schemas, StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import type { Under } from '../../view3d/picking'
import { defineKind, type Offer } from '../kind'
import { needScan, pickAt, widenPick } from '../picks'
import DatumForm from './DatumForm.vue'

type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['DatumTold']
type Element = Record['element']

const RULE: { [K in Element]: PickRecord['rule'] } = { plane: 'same facing', cylinder: 'same bend' }
const NAME: { [K in Element]: string } = { plane: 'Plane', cylinder: 'Axis' }
const TITLE: { [K in Element]: string } = { plane: 'Plane datum', cylinder: 'Axis datum' }

const tool = (element: Element, id: string, says: string, also: string, belt: number) => ({
  id,
  name: TITLE[element],
  says,
  also,
  belt,
  group: 'read',
  needs: needScan,
  slot: 'place',
  begins: (room: Room) => {
    room.shown.show.scan = true
  },
  record: (room: Room) =>
    ({
      name: room.job.freeName(NAME[element]),
      scan: room.job.scan!.id,
      element,
      pick: null,
    }) as Partial<Record>,
})

/** What a place on the scan could be: worse the more it scatters, and the less of the surface it explains. */
function offer(element: Element, at: Under, room: Room): Offer | null {
  const pick = pickAt(at, RULE[element], null)
  if (!pick || at.what !== 'scan') return null
  return {
    tool: element,
    title: TITLE[element],
    slot: 'place',
    record: {
      kind: 'datum',
      name: room.job.freeName(NAME[element]),
      scan: at.id,
      element,
      pick,
    } as StepRecord,
    weigh: (got: Preview) => {
      const t = got.summary as unknown as Told
      const size = element === 'cylinder' ? t.says : `flat over ${t.area.toPrecision(3)} mm²`
      return { figure: `${size} · scatter ${t.scatter.toPrecision(2)}`, cost: t.scatter / Math.sqrt(t.area) }
    },
  }
}

export const ruleOf = (element: Element) => RULE[element]

export default defineKind<Record, Told>({
  kind: 'datum',
  stage: 'Frame',
  title: (r) => TITLE[r.element],
  says: (r) =>
    r.element === 'plane'
      ? 'Click a flat face once; it spreads as far as it faces the same way.'
      : 'Click inside a bore or on a boss once; it spreads as far as it bends the same.',
  tries: 'taken back',
  form: DatumForm,
  slots: {
    place: {
      takes: ['scan'],
      says: 'Click the surface on the scan',
      put: (at, r, room) => {
        const pick = pickAt(at, RULE[r.element], r.pick)
        if (!pick) return
        r.pick = pick
        room.hand.showPick(r.scan, pick, r.element)
        room.hand.tryIt(0)
      },
    },
  },
  tools: [
    tool('plane', 'plane', 'A flat face, from one place on it', 'flat face', 1),
    tool('cylinder', 'axis', 'The axis of a bore or boss', 'hole cylinder bore boss', 2),
  ],
  ready: (r) => !!r.pick || 'Click the surface on the scan',
  verb: () => 'Lay datum',
  offers: (given, room) =>
    given.length === 1 && given[0].what === 'scan'
      ? (['plane', 'cylinder'] as const).map((e) => offer(e, given[0], room)).filter((o) => o !== null)
      : [],
  widens: (factor, r, room) => {
    if (r.pick) widenPick(r.pick, factor, r.scan, r.element, room)
  },
})
