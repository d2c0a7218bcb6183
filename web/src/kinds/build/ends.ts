/** The two ends of an extrusion. */
import type { Schemas } from '../../api/types'

type To = Schemas['ExtrudeStep']['start']['to']

/** Whether an end is a face picked on the scan: flat, or as it is bent. */
export const facesPicked = (to: To) => to === 'face' || to === 'surface'
export const missingFaces = (r: Schemas['ExtrudeStep']) =>
  (['start', 'end'] as const).filter((k) => facesPicked(r[k].to) && !r[k].pick)
