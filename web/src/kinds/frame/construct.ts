import type { Preview, Schemas, StepRecord, Stone } from '../../api/types'
import { useSchemas } from '../../state/schemas'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { doneOf } from '../picks'
import ConstructForm from './ConstructForm.vue'
import { figureOf } from './figures'
import { suits, waysOf, type WayName } from './ways'

type Record = Schemas['ConstructStep']
type Told = Schemas['ConstructTold']

const MOST = 3

const fresh = (room: Room, way: WayName, of: string[]): Partial<Record> => ({
  name: room.job.freeName('Made datum'),
  way,
  of,
  distance: 0,
  angle_deg: 0,
  flip: false,
})
/** Another datum to make it of, or one let go; the way changes where it no longer suits. */
function give(s: Stone, r: Record, room: Room) {
  r.of = r.of.includes(s.id) ? r.of.filter((id) => id !== s.id) : [...r.of, s.id].slice(-MOST)
  const given = r.of.map((id) => room.job.byId.get(id)!)
  const ways = waysOf(useSchemas().value).filter(([, w]) => suits(w, given))
  if (ways.length && !ways.some(([name]) => name === r.way)) r.way = ways[0][0]
  if (ways.length) room.hand.again()
  else room.hand.preview = null
}

export default defineKind<Record, Told>({
  kind: 'construct',
  stage: 'Frame',
  title: 'Construct',
  says: 'Click the datums to make one of; what they allow is listed with its figure.',
  tries: 'by itself',
  form: ConstructForm,
  slots: {
    of: {
      takes: ['datum'],
      says: 'Click a datum in the view or the yard',
      put: (at, r, room) => {
        const s = at.what === 'datum' ? room.job.byId.get(at.id) : null
        if (s) give(s, r, room)
      },
      yard: { gives: ['datum'], put: give },
    },
  },
  tools: [
    {
      id: 'construct',
      name: 'Construct',
      says: 'A plane, axis or point from datums',
      also: 'intersection offset middle plane line point through projected',
      group: 'make',
      place: 1,
      belt: 2,
      slot: 'of',
      needs: (room) => (doneOf(room, 'datum').length ? null : 'Lay a datum first.'),
      record: (room) => fresh(room, 'line of planes', []),
    },
  ],
  ready: (_, preview) => (preview && preview.status !== 'failed') || 'Click the datums it is made of',
  verb: () => 'Lay datum',
  shows: (plan, r, preview, room) => ({
    datums: room.job.before(r.id, 'datum').map((s) => s.id),
    ...(preview?.summary.parameters && { made: preview.summary }),
    planes: plan.planes,
  }),
  offers: (given, room) => {
    const datums = given.flatMap((g) => (g.what === 'datum' ? [room.job.byId.get(g.id)!] : []))
    if (!datums.length || datums.length !== given.length) return []
    return waysOf(useSchemas().value)
      .filter(([, way]) => suits(way, datums) && !way.asks.length)
      .map(([name, way], i) => ({
        tool: 'construct',
        title: way.title,
        slot: 'of',
        why: `${datums.map((d) => d.name).join(' and ')} ${datums.length === 1 ? 'allows' : 'allow'} it, and ${datums.length === 1 ? 'it follows' : 'it follows both'}.`,
        record: {
          kind: 'construct',
          ...fresh(
            room,
            name,
            datums.map((d) => d.id),
          ),
        } as StepRecord,
        weigh: (got: Preview) => {
          const t = got.summary as unknown as Told
          return { figure: figureOf(t), cost: 1 + i / 100 }
        },
      }))
  },
})
