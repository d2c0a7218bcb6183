/** Curves as the view draws them. */
import type { Room } from '../../state/room'
import type { LinePlan, Plan } from '../../view3d/plan'

type CurveTold = { shown: number[][]; closed: boolean }

export const curveLine = (points: number[][], closed: boolean): LinePlan => ({
  points,
  closed,
  colour: 'inkblue',
  through: true,
})

/** Every curve that is laid, besides what the plan draws. */
export function laidCurves(plan: Plan, room: Room): Partial<Plan> {
  const own = room.hand.record?.id
  const curves = room.job.given('curve').filter((s) => s.id !== own)
  const lines = curves.flatMap((s) => {
    const told = room.job.toldOf<CurveTold>(s)
    return told?.shown ? [curveLine(told.shown, told.closed)] : []
  })
  return { lines: [...plan.lines, ...lines] }
}
