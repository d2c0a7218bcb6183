import type { Schemas, Vec3 } from '../../api/types'
import { defineKind } from '../kind'
import { needBody, pickAt } from '../picks'
import { frameOf, showsBody } from './bodied'
import DrillForm from './DrillForm.vue'

type Record = Schemas['DrillStep']
type Told = Schemas['DrillTold']
const asRead = () => ({ value: null, source: 'rounded' as const })
const apart = (a: Vec3, b: Vec3) => Math.hypot(...a.map((c, k) => c - b[k]))

export default defineKind<Record, Told>({
  kind: 'drill',
  stage: 'Build',
  title: 'Drilled holes',
  says: 'Click the wall of each hole on the scan; where it lies, how wide and how deep is read from it.',
  form: DrillForm,
  ready: (r) => r.places.length > 0 || 'Click the wall of a hole on the scan',
  verb: (_t, r) => `Lay ${r.places.length} ${r.places.length === 1 ? 'hole' : 'holes'}`,
  tries: 'taken back',
  slots: {
    places: {
      takes: ['scan'],
      says: 'Click the walls of holes on the scan; click one again to leave it',
      put: (at, r, room) => {
        const pick = pickAt(at, 'same bend', null)
        if (!pick || at.what !== 'scan') return
        const wide = 2.2 * ((room.hand.told as Told | null)?.sizes.radius ?? 0)
        const known = r.places.findIndex((p) => apart(p.pick.place as Vec3, at.place) < wide)
        r.places =
          known >= 0
            ? r.places.filter((_, k) => k !== known)
            : [...r.places, { pick, u: asRead(), v: asRead() }]
        if (r.places.length) room.hand.tryIt(0)
        else room.hand.preview = null
      },
    },
  },
  shows: showsBody,
  tools: [
    {
      id: 'drill',
      name: 'Drilled holes',
      says: 'Holes clicked on the scan: through, blind, counterbored, countersunk; several at once',
      also: 'hole drill bore tap counterbore countersink thread screw',
      group: 'take away and join',
      place: 1,
      slot: 'places',
      needs: needBody,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.show.model = false
      },
      record: (room) => ({
        name: room.job.freeName('Holes'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        body: room.job.body!.id,
        places: [],
        goes: 'read',
        head: 'read',
        along: 'read',
        diameter: asRead(),
        depth: asRead(),
        tip: asRead(),
        head_diameter: asRead(),
        head_depth: asRead(),
        head_angle: asRead(),
        thread: '',
      }),
    },
  ],
})
