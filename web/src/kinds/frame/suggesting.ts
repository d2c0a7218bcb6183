/** Frames that the scan suggests, and which of them is looked at. */
import { reactive } from 'vue'
import type { Matrix, Schemas } from '../../api/types'
import type { Plan } from '../../view3d/plan'

export type Suggested = Schemas['SuggestedFrame']
type Suggesting = { found: Suggested[] | null; looked: number }
export const suggesting = reactive<Suggesting>({ found: null, looked: 0 })

export const forget = () => Object.assign(suggesting, { found: null, looked: 0 })

/** The scan where the frame that is looked at would put it. */
export function suggestedPlan(plan: Plan): Partial<Plan> {
  const looked = suggesting.found?.[suggesting.looked]
  if (!looked) return {}
  const matrix = looked.matrix as Matrix
  return { matrix, scan: plan.scan && { ...plan.scan, matrix } }
}
