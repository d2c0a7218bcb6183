import type { Schemas } from '../../api/types'
import { short } from '../../state/format'

/** A hole in words: how wide, how deep, what its mouth is. */
export function holeWords(t: Schemas['DrillTold']): string {
  const wide = `⌀ ${short(2 * t.sizes.radius)}`
  const deep = t.through ? 'through' : `${short(t.sizes.depth)} deep`
  const head = t.head === 'plain' ? '' : `, ${t.head} ⌀ ${short(2 * t.sizes.head_radius)}`
  return `${wide} ${deep}${head}`
}
