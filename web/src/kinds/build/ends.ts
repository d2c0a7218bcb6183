/** The two ends of an extrusion. */
import type { Schemas, Vec3 } from '../../api/types'
import type { Room } from '../../state/room'
import { onScan } from './dragged'
import { loopsInSpace, type SketchTold } from './loops'

type To = Schemas['ExtrudeStep']['start']['to']

/** Whether an end is a face picked on the scan: flat, or as it is bent. */
export const facesPicked = (to: To) => to === 'face' || to === 'surface'
export const missingFaces = (r: Schemas['ExtrudeStep']) =>
  (['start', 'end'] as const).filter(
    (k) => (facesPicked(r[k].to) && !r[k].pick) || (r[k].to === 'datum' && !r[k].datum),
  )
/** What is still to be given, in words; true where nothing is. */
export function endsGiven(r: Schemas['ExtrudeStep']): true | string {
  const [k] = missingFaces(r)
  if (!k) return true
  const ends = k === 'start' ? 'begins' : 'ends'
  return r[k].to === 'datum' ? `Choose the datum where it ${ends}` : `Click the face where it ${ends}`
}

/** The middles of both ends, where they can be dragged, in the scan's coordinates. */
export function endPlaces(r: Schemas['ExtrudeStep'], room: Room): Vec3[] {
  const told = room.hand.told as unknown as Schemas['ExtrudeTold'] | null
  const sketch = room.job.toldOf<SketchTold>(room.job.byId.get(r.sketch))
  const { matrix } = room.job
  if (!told?.pushed || !sketch || !matrix) return []
  const { origin, normal } = sketch.plane as { origin: number[]; normal: number[] }
  const points = told.pushed.flatMap((k) => loopsInSpace(r.sketch, sketch)[k]?.points ?? [])
  if (!points.length) return []
  const middle = [0, 1, 2].map((k) => points.reduce((t, p) => t + p[k], 0) / points.length)
  const at = origin.reduce((t, c, k) => t + c * normal[k], 0)
  return [told.start, told.end].map((h) =>
    onScan(
      matrix,
      middle.map((c, k) => c + (h - at) * normal[k]),
    ),
  )
}

/** An end dragged onto the scan ends on the face there. */
export function dragEnd(k: number, to: Vec3, r: Schemas['ExtrudeStep']) {
  const pick = { place: to, normal: null, rule: 'same facing' as const, angle_deg: null, marks: [] }
  const height = { value: null, source: 'rounded' as const }
  r[k === 0 ? 'start' : 'end'] = { to: 'face', datum: null, pick, height }
}
