import type { PickRecord, Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { ONTO_SCAN, placeSlot, plusMinus } from './onScan'
import { SURFACE_OF, type Element } from './elements'

type Record = Omit<Schemas['EdgeStep'], 'pick'> & { pick: PickRecord | null }
type Told = Schemas['EdgeTold']

const fresh = (room: Room, scan: string, pick: PickRecord | null): Partial<Record> => ({
  name: room.job.freeName('Edge'),
  scan,
  pick,
})
const WHOLE = 300 // degrees that are seen
const shapeOf = (t: Told) =>
  t.span_deg === null ? 'Straight edge' : t.span_deg > WHOLE ? 'Round edge' : 'Arc edge'

export default defineKind<Record, Told>({
  kind: 'read_edge',
  stage: 'Frame',
  title: 'Read an edge',
  says: 'Click near an edge, sharp or rounded: the line or arc where the surfaces on either side of it meet.',
  tries: 'taken back',
  slots: { pick: placeSlot('Click near an edge of the scan') },
  tools: [
    {
      id: 'edge',
      name: 'Read an edge',
      brief: 'Edge',
      says: 'A line, an arc or a circle, where the surfaces on either side of an edge meet',
      also: 'line arc circle rim corner crease border straight',
      group: 'read',
      ...ONTO_SCAN,
      record: (room) => fresh(room, room.job.scan!.id, null),
    },
  ],
  ready: (r) => !!r.pick || 'Click near an edge of the scan',
  verb: () => 'Lay datum',
  figures: [
    { key: 'edge', label: 'it is', of: (t) => shapeOf(t).toLowerCase() },
    {
      key: 'seen',
      label: 'seen',
      of: (t) =>
        t.span_deg === null ? `${t.length.toFixed(3)} mm of it` : `${t.span_deg.toFixed(0)}° of it`,
    },
    {
      key: 'radius',
      label: 'radius',
      of: (t) =>
        t.span_deg === null
          ? ''
          : `${plusMinus(t.parameters.radius as number, t.uncertainty.radius as number, 3)} mm`,
    },
    {
      key: 'direction',
      label: 'direction',
      of: (t) => `± ${Math.max(2 * (t.direction_uncertainty_deg ?? 0), 0.001).toFixed(3)}°`,
    },
    {
      key: 'place',
      label: 'place',
      of: (t) => `± ${Math.max(2 * t.place_uncertainty, 0.001).toFixed(3)} mm`,
    },
    {
      key: 'sides',
      label: 'between',
      of: (t) => t.sides.map((s) => SURFACE_OF[s as Element].toLowerCase()).join(' and '),
    },
    { key: 'turn', label: 'they meet at', of: (t) => `${t.turn_deg.toFixed(2)}°` },
  ],
  shows: (plan, _, preview) => ({
    scanOn: true,
    ...(preview?.summary.parameters && { made: preview.summary }),
    lines: preview?.summary.places
      ? [...plan.lines, { points: preview.summary.places, closed: false, colour: 'inkblue', through: true }]
      : plan.lines,
    datums: plan.datums,
  }),
})
