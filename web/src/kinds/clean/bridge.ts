import type { Schemas, Vec3 } from '../../api/types'
import type { LinePlan } from '../../view3d/plan'
import type { Under } from '../../view3d/picking'
import { defineKind } from '../kind'
import BridgeForm from './BridgeForm.vue'
import { cleaner, onMesh, someLength } from './cleaner'
import { useRims } from './useRims'

type Record = Schemas['BridgeStep']

/** The places a drag means: both ends of a stretch and its middle, or the two ends of a strip. */
function placesOf(path: Under[], r: Record): Vec3[] {
  const rims = useRims()
  if (r.way === 'strip') {
    const on = path.filter((p) => p.what === 'line')
    return on.length > 1 ? [on[0].place, on[on.length - 1].place] : []
  }
  const along = rims.along(path)
  return along.length > 2 ? [along[0], along[along.length - 1], along[along.length >> 1]] : []
}

export default defineKind<Record, Schemas['ClosedTold']>({
  kind: 'bridge',
  stage: 'Clean',
  title: 'Bridge',
  says: 'Make a hole smaller or part it in two before closing what is left.',
  compares: 'before and after',
  adds: 'patch',
  tries: 'taken back',
  form: BridgeForm,
  slots: {
    rims: {
      takes: ['line'],
      says: (r) =>
        r.way === 'strip' ? 'Drag from rim to rim' : 'Drag along the stretch of a rim that is to close',
      stroke: {
        along: (path, r) => {
          const on = path.filter((p) => p.what === 'line')
          useRims().stretch = r.way === 'strip' ? on.map((p) => p.place) : useRims().along(path)
        },
        done: (path, r, room) => {
          const places = placesOf(path, r)
          useRims().stretch = []
          if (!places.length) return
          r.places = places
          room.hand.again()
        },
      },
    },
  },
  tools: [
    cleaner(
      'bridge',
      'Bridge a gap',
      'Close part of a rim, or lay a strip across',
      (room) => ({ way: 'stretch', places: [], width: 2 * someLength(room), shape: 'tangent' }),
      { fits: onMesh, group: 'close', place: 2, slot: 'rims', also: 'strip span' },
    ),
  ],
  ready: (r) =>
    r.places.length >= (r.way === 'stretch' ? 3 : 2) ||
    (r.way === 'stretch' ? 'Drag along a rim' : 'Drag across a gap'),
  verb: () => 'Lay bridge',
  shows: (plan, r) => {
    const rims = useRims()
    const drawn = rims.stretch.length ? rims.stretch : r.way === 'strip' ? r.places : []
    const points = rims.stretch.length && r.way === 'strip' ? [drawn[0], drawn[drawn.length - 1]] : drawn
    const stretch: LinePlan[] = points.length > 1 ? [{ points, closed: false, colour: 'saffron' }] : []
    return { lines: [...plan.lines, ...rims.plain, ...stretch] }
  },
})
