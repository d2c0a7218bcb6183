import type { PickRecord, Preview, Schemas, StepRecord } from '../../api/types'
import { whole } from '../../state/format'
import type { Room } from '../../state/room'
import type { Under } from '../../view3d/picking'
import { defineKind, type Offer } from '../kind'
import { needScan, pickAt, widenPick } from '../picks'
import { NAME_OF, TITLE_OF, type Element } from './elements'
import DatumForm from './DatumForm.vue'

/** `read`: the scan said which kind it is, and may say otherwise of the next place; the hand's own. */
type Record = Omit<Schemas['DatumStep'], 'pick'> & { pick: PickRecord | null; read?: boolean }
type Told = Schemas['DatumTold']

const fresh = (room: Room, scan: string, element: Element, pick: PickRecord | null): Partial<Record> => ({
  name: room.job.freeName(NAME_OF[element]),
  scan,
  element,
  pick,
  along: null,
  square_to: null,
  angle_to: null,
  angle_deg: 90,
  about: null,
  through: null,
  radius: null,
  keep_all: false,
  flip: false,
})
const figureOf = (t: Told) => {
  const size = t.element === 'plane' ? `flat over ${whole(Math.round(t.area))} mm²` : t.says
  return `${size} · scatter ${t.scatter.toPrecision(2)}`
}

const a = (element: string) => `${/^[aeiou]/.test(element) ? 'an' : 'a'} ${element}`

/** What a place on the scan is most likely to be. */
function likeliest(at: Under, room: Room): Offer[] {
  const pick = pickAt(at, 'same bend', null)
  if (!pick || at.what !== 'scan') return []
  const record = { kind: 'datum', ...fresh(room, at.id, 'best', pick) } as StepRecord
  return [
    {
      tool: 'datum',
      title: TITLE_OF.best,
      slot: 'place',
      record,
      why: (got) => {
        const t = got?.summary as unknown as Told | undefined
        const others = (t?.could_be ?? []).filter((c) => c.element !== t?.element)
        const next = others.sort((a, b) => a.scatter - b.scatter)[0]
        if (!t || !next) return 'Of all kinds tried, only this lies on the surface.'
        return `Of ${others.length + 1} kinds tried it scatters least; called ${a(next.element)} it would scatter ${next.scatter.toPrecision(2)}.`
      },
      weigh: (got: Preview) => {
        const t = got.summary as unknown as Told
        const element = t.element as Element
        Object.assign(record, { element, name: room.job.freeName(NAME_OF[element]) })
        return { title: TITLE_OF[element], figure: figureOf(t), cost: t.scatter / Math.sqrt(t.area) }
      },
    },
  ]
}

export default defineKind<Record, Told>({
  kind: 'datum',
  stage: 'Frame',
  title: (r) => TITLE_OF[r.read ? 'best' : r.element],
  says: 'Click the surface once; it spreads as far as it goes on, and every kind it could be is fitted.',
  tries: 'taken back',
  form: DatumForm,
  handOnly: ['read'],
  slots: {
    place: {
      takes: ['scan'],
      says: 'Click the surface on the scan',
      put: (at, r, room) => {
        const pick = pickAt(at, 'same bend', r.pick)
        if (!pick) return
        if (r.read) r.element = 'best'
        r.pick = pick
        room.hand.showPick(r.scan, pick, r.element)
        room.hand.again()
      },
    },
    brushed: {
      takes: ['scan'],
      says: '',
      marks: true,
      onto: {
        marks: (r) => (r.pick ? (r.pick.marks ??= []) : undefined),
        show: (r, room) => void room.hand.showPick(r.scan, r.pick!, r.element),
      },
    },
  },
  tools: [
    {
      id: 'datum',
      name: TITLE_OF.best,
      brief: 'Datum',
      says: 'Flat, round, conical, ball or ring, from one place on it',
      also: 'plane axis flat face hole cylinder bore boss cone sphere torus fit',
      belt: 1,
      group: 'read',
      needs: needScan,
      slot: 'place',
      begins: (room) => {
        room.shown.show.scan = true
      },
      record: (room) => ({ ...fresh(room, room.job.scan!.id, 'best', null), read: true }),
    },
  ],
  ready: (r) => !!r.pick || 'Click the surface on the scan',
  verb: () => 'Lay datum',
  offers: (given, room) => (given.length === 1 ? likeliest(given[0], room) : []),
  widens: (factor, r, room) => {
    if (r.pick) widenPick(r.pick, factor, r.scan, r.element, room)
  },
})
