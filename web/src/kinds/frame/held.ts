/** What a datum can be held to: one direction, one place, a radius. */
import type { Schemas } from '../../api/types'

type Record = Schemas['DatumStep']
export type Way = 'along' | 'square_to' | 'angle_to' | 'about'
export const WAYS: [Way, string][] = [
  ['along', 'along'],
  ['square_to', 'square to'],
  ['angle_to', 'at an angle to'],
  ['about', 'about the axis of'],
]
export const wayOf = (r: Pick<Record, Way>): Way | null => WAYS.find(([k]) => r[k])?.[0] ?? null
export const isHeld = (r: Partial<Pick<Record, Way | 'through' | 'radius' | 'flip'>>) =>
  WAYS.some(([k]) => r[k]) || !!(r.through || r.radius || r.flip)
/** Held along or about one thing only: nothing of what was held before. */
export function holdTo(r: Pick<Record, Way>, way: Way | null, id: string | null) {
  for (const [k] of WAYS) r[k] = null
  if (way && id) r[way] = id
}
