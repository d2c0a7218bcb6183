/** The cutting plane and its traces, as the view draws them. */
import { useSketch } from '../../paper/sketch'
import type { Room } from '../../state/room'
import { across, type LinePlan, type Plan } from '../../view3d/plan'

/** The scan coloured by how far its walls lie off what the drawing would sweep, as the trace is. */
function wallsShown(plan: Plan): Partial<Plan> {
  const { walls, scale } = useSketch()
  const key = plan.scan?.key
  if (!walls || !key || walls.scan !== key) return {}
  const own = { values: walls.values, band: scale / 6, full: scale }
  const tide = { key, scan: key, name: `walls ${walls.count}`, own }
  return { scanOn: true, bodyOn: false, bodies: [], deviation: null, tide }
}

export function cutShown(plan: Plan, room: Room): Partial<Plan> {
  const cut = useSketch().cut
  if (!cut || room.shown.proof) return {}
  const size = 1.1 * across(room.job.scan)
  const trace = cut.loops.map((points): LinePlan => ({ points, closed: true, colour: 'inkblue', in: 'view' }))
  return {
    ...wallsShown(plan),
    planes: [...plan.planes, { origin: cut.origin, normal: cut.normal, size, colour: 'saffron', in: 'view' }],
    lines: [...plan.lines, ...trace],
  }
}
