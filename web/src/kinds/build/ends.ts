/** The two ends of an extrusion. */
import type { Schemas } from '../../api/types'

export const missingFaces = (r: Schemas['ExtrudeStep']) =>
  (['start', 'end'] as const).filter((k) => r[k].to === 'face' && !r[k].pick)
