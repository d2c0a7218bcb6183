/** What people call a scan step, and its stone colour. */
import { useJob } from '../../state/job'
import { STONES, css } from '../../view3d/stone'

export function useNames() {
  const j = useJob()
  const number = (id: string) => Math.max(0, j.captures.indexOf(j.root(id)))
  const colourOf = (id: string) => STONES[number(id) % STONES.length]
  return {
    nameOf: (id: string) => j.byId.get(j.root(id))?.name ?? id,
    numberOf: (id: string) => number(id) + 1,
    colourOf,
    css: (id: string) => css(colourOf(id)),
  }
}
