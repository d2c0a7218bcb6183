import type { Schemas, Vec3 } from '../../api/types'
import { defineKind } from '../kind'
import { needFrame, pickAt } from '../picks'
import { bodyFigures, frameOf, showsBody } from './bodied'
import TubeForm from './TubeForm.vue'

/** `wider`: the hand's own: the scan is coloured by how much wider than its diameter the tube is. */
type Record = Schemas['TubeStep'] & { wider?: boolean }
type Told = Schemas['TubeTold']
const apart = (a: Vec3, b: Vec3) => Math.hypot(...a.map((c, k) => c - b[k]))

export default defineKind<Record, Told>({
  kind: 'tube',
  stage: 'Build',
  title: 'Tube',
  says: 'Click a tube on the scan: its straights, bends and diameter are read from its outside.',
  form: TubeForm,
  tries: 'taken back',
  handOnly: ['wider'],
  figures: bodyFigures,
  ready: (r) => r.places.length > 0 || 'Click the tube on the scan',
  verb: () => 'Lay tube',
  slots: {
    places: {
      takes: ['scan'],
      says: 'Click the tube; if it does not show itself, click one end, places it goes by, and the other end',
      put: (at, r, room) => {
        const pick = pickAt(at, 'same bend', null)
        if (!pick || at.what !== 'scan') return
        const near = (room.hand.told as Told | null)?.outer ?? 0
        const known = r.places.findIndex((p) => apart(p.place as Vec3, at.place) < near)
        r.places = known >= 0 ? r.places.filter((_, k) => k !== known) : [...r.places, pick]
        if (r.places.length) room.hand.tryIt(0)
        else room.hand.preview = null
      },
    },
    marks: { takes: ['scan'], says: '', marks: true },
  },
  shows: (plan, r, p, room) => {
    const told = room.hand.told as Told | null
    const line = told
      ? [{ points: told.centreline, closed: false, colour: 'inkblue' as const, through: true }]
      : []
    const scan = room.job.byId.get(r.scan)?.key
    const tide = r.wider && room.hand.result && scan ? { key: room.hand.result, scan, name: 'wider' } : null
    return { ...showsBody(plan, r, p, room), tide, lines: [...plan.lines, ...line] }
  },
  tools: [
    {
      id: 'tube',
      name: 'Tube',
      says: 'A bent tube or bar read from its outside, with its bend table; a wall by a hand reading',
      also: 'pipe tube bar rail bend centreline handrail bent',
      group: 'push and turn',
      place: 4,
      slot: 'places',
      needs: needFrame,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.show.model = false
      },
      record: (room) => ({
        name: room.job.freeName('Tube'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        places: [],
        diameter: { value: null, source: 'rounded' },
        known: false,
        marks: [],
        before: 0,
        after: 0,
        rounded: false,
        wall: { value: null, source: 'hand reading' },
      }),
    },
  ],
})
