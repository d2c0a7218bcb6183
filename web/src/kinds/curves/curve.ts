import type { Schemas, Vec3 } from '../../api/types'
import { cross } from '../../view3d/cross'
import { across } from '../../view3d/plan'
import { frameOf } from '../build/bodied'
import { defineKind } from '../kind'
import { needFrame } from '../picks'
import CurveForm from './CurveForm.vue'
import { curveLine, laidCurves } from './shown'

type Record = Schemas['CurveStep']
type Told = Schemas['CurveTold']

export default defineKind<Record, Told>({
  kind: 'curve',
  stage: 'Sketch',
  title: 'Curve in space',
  says: 'Click places in order: a smooth curve through them, one along the scan, or straight with round corners.',
  form: CurveForm,
  tries: 'taken back',
  ready: (r) => r.places.length > 1 || 'Click at least two places',
  verb: () => 'Lay curve',
  figures: [{ key: 'length', label: 'length', of: (t) => `${t.length.toFixed(3)} mm` }],
  slots: {
    places: {
      takes: ['scan', 'datum'],
      says: 'Click places along the curve; drag one to move it',
      put: (at, r, room) => {
        if (at.what === 'scan')
          r.places.push({ place: at.place, of: null, entity: null, handle: null, radius: null })
        else if (at.what === 'datum')
          r.places.push({ place: [0, 0, 0], of: at.id, entity: null, handle: null, radius: null })
        if (r.places.length > 1) room.hand.tryIt(0)
      },
      handles: {
        of: (r) => r.places.filter((p) => !p.of).map((p) => p.place as Vec3),
        move: (k, to, r, room) => {
          const free = r.places.filter((p) => !p.of)
          free[k].place = to
          room.hand.tryIt()
        },
      },
    },
  },
  shows: (plan, r, _p, room) => {
    const told = room.hand.told as Told | null
    const size = 0.006 * across(room.job.scan)
    const free = r.places.filter((p) => !p.of).map((p) => p.place as number[])
    const base = laidCurves(plan, room).lines!
    return {
      scanOn: true,
      deviation: null,
      lines: [
        ...base,
        ...free.flatMap((p) => cross(p, size, 'saffron', true)),
        ...(told ? [curveLine(told.shown, told.closed)] : []),
      ],
    }
  },
  tools: [
    {
      id: 'curve',
      name: 'Curve in space',
      says: 'A spline or a polyline with round corners through places, free or along the scan',
      also: 'spline polyline path wire 3d line freeform',
      group: 'in space',
      brief: 'Curve',
      place: 1,
      slot: 'places',
      needs: needFrame,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.show.model = false
      },
      record: (room) => ({
        name: room.job.freeName('Curve'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        runs: 'smooth',
        places: [],
        on: null,
        closed: false,
        tension: 0,
        radius: { value: 0, source: 'typed' },
        begin_along: null,
        end_along: null,
      }),
    },
  ],
})
