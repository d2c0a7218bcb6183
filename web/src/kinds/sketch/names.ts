import type { Schemas } from '../../api/types'

/** A name for what is seen on the paper that nothing there has yet. */
export function freeId(r: Pick<Schemas['SketchStep'], 'projected'>) {
  const taken = new Set(r.projected.map((p) => p.id))
  let k = 1
  while (taken.has(`g${k}`)) k++
  return `g${k}`
}
