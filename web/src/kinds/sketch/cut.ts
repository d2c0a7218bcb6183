/** The cutting plane and its traces, as the view draws them. */
import { useSketch } from '../../paper/sketch'
import type { Room } from '../../state/room'
import { across, type LinePlan, type Plan } from '../../view3d/plan'

export function cutShown(plan: Plan, room: Room): Partial<Plan> {
  const cut = useSketch().cut
  if (!cut || room.shown.proof) return {}
  const size = 1.1 * across(room.job.scan)
  const trace = cut.loops.map((points): LinePlan => ({ points, closed: true, colour: 'inkblue', in: 'view' }))
  return {
    planes: [...plan.planes, { origin: cut.origin, normal: cut.normal, size, colour: 'saffron', in: 'view' }],
    lines: [...plan.lines, ...trace],
  }
}
