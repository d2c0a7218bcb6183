import type { PickRecord, Preview, Schemas, StepRecord } from '../../api/types'
import { whole } from '../../state/format'
import type { Room } from '../../state/room'
import type { Under } from '../../view3d/picking'
import { defineKind, type Offer } from '../kind'
import { needScan, pickAt, widenPick } from '../picks'
import { NAME_OF, RULE_OF, TITLE_OF, type Element } from './elements'
import DatumForm from './DatumForm.vue'

type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['DatumTold']

const LEAST_TURN = 0.25 // radians of a cylinder that must be seen
const tool = (element: Element, id: string, says: string, also: string, belt: number) => ({
  id,
  brief: NAME_OF[element],
  name: TITLE_OF[element],
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
      name: room.job.freeName(NAME_OF[element]),
      scan: room.job.scan!.id,
      element,
      pick: null,
    }) as Partial<Record>,
})

/** What a place on the scan could be: worse the more it scatters, and the less of the surface it explains. */
function offer(element: Element, at: Under, room: Room): Offer | null {
  const pick = pickAt(at, RULE_OF[element], null)
  if (!pick || at.what !== 'scan') return null
  return {
    tool: element,
    title: TITLE_OF[element],
    slot: 'place',
    record: {
      kind: 'datum',
      name: room.job.freeName(NAME_OF[element]),
      scan: at.id,
      element,
      pick,
    } as StepRecord,
    weigh: (got: Preview) => {
      const t = got.summary as unknown as Told
      const radius = t.parameters.radius as number | undefined
      // A cylinder of which only a sliver is seen is a flat face with noise.
      if (radius !== undefined && Math.sqrt(t.area) < LEAST_TURN * radius) return null
      const size = radius === undefined ? `flat over ${whole(Math.round(t.area))} mm²` : t.says
      return { figure: `${size} · scatter ${t.scatter.toPrecision(2)}`, cost: t.scatter / Math.sqrt(t.area) }
    },
  }
}

export default defineKind<Record, Told>({
  kind: 'datum',
  stage: 'Frame',
  title: (r) => TITLE_OF[r.element],
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
        const pick = pickAt(at, RULE_OF[r.element], r.pick)
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
