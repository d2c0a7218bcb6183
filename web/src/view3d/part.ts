/** A scan as it is joined: what of it is neither slab nor scrap. */
import { geometry, type Buffers } from '../api/client'

const made = new Map<string, Buffers>()
const MOST = 60

export const partIfKnown = (key: string) => made.get(key)

export async function partOf(job: number, key: string): Promise<Buffers> {
  const known = made.get(key)
  if (known) return known
  const [b, part] = await Promise.all([geometry(job, key, 'scan'), geometry(job, key, 'part')])
  const shows = part.arrays.values as Uint8Array
  const all = b.arrays.indices as Uint32Array | undefined
  const each = all ? 3 : 1
  const kept = new Uint32Array(each * shows.reduce((t, v) => t + (v ? 1 : 0), 0))
  let n = 0
  shows.forEach((v, i) => {
    if (!v) return
    if (all) kept.set(all.subarray(3 * i, 3 * i + 3), n)
    else kept[n] = i
    n += each
  })
  // Places keep their numbers; of a cloud `some` says which are drawn.
  const out = { ...b, arrays: { ...b.arrays, [all ? 'indices' : 'some']: kept } }
  made.set(key, out)
  if (made.size > MOST) made.delete(made.keys().next().value!)
  return out
}
