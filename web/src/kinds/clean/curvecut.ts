import type { Schemas, Vec3 } from '../../api/types'
import { cross } from '../../view3d/cross'
import { across } from '../../view3d/plan'
import { defineKind } from '../kind'
import { cleaner, onMesh } from './cleaner'
import CurveCutForm from './CurveCutForm.vue'

type Record = Schemas['CurveCutStep']
export const leastPlaces = (r: Record) => (r.closed ? 3 : 2)

export default defineKind<Record, Schemas['CurveCutTold']>({
  kind: 'curvecut',
  stage: 'Clean',
  title: 'Cut along a curve',
  says: 'The cut runs exactly on the curve, so that the new rim is smooth and fills well.',
  compares: 'before and after',
  tries: 'taken back',
  form: CurveCutForm,
  slots: {
    curve: {
      takes: ['scan'],
      says: 'Click places along the curve; drag one to move it',
      put: (at, r, room) => {
        if (at.what !== 'scan') return
        r.places.push(at.place)
        if (r.places.length >= leastPlaces(r)) room.hand.tryIt()
      },
      handles: {
        of: (r) => r.places as Vec3[],
        move: (k, to, r) => {
          r.places[k] = to
        },
      },
    },
    keep: {
      takes: ['scan'],
      says: 'Click the side that stays',
      put: (at, r, room) => {
        if (at.what !== 'scan') return
        r.keep = at.place
        room.hand.slot = 'curve'
        room.hand.tryIt()
      },
    },
  },
  tools: [
    cleaner(
      'curvecut',
      'Cut along a curve',
      'Split triangles along a drawn curve, keep one side',
      () => ({ places: [], closed: true, keep: null }),
      { fits: onMesh, group: 'cut', slot: 'curve', also: 'trim split' },
    ),
  ],
  ready: (r) => r.places.length >= leastPlaces(r) || `${leastPlaces(r)} places make a curve`,
  verb: () => 'Cut along the curve',
  shows: (plan, r, preview, room) => {
    const size = 0.008 * across(room.hand.scan)
    const smooth = !room.hand.previewing && room.hand.told ? preview?.summary.curve : null
    return {
      scan: room.hand.scan?.key && plan.scan ? { ...plan.scan, key: room.hand.scan.key } : plan.scan,
      lines: [
        ...plan.lines,
        ...r.places.flatMap((p) => cross(p, size, 'saffron')),
        { points: smooth ?? [...r.places], closed: r.closed, colour: 'saffron' },
        ...(r.keep ? cross(r.keep, size, 'moss') : []),
      ],
    }
  },
})
