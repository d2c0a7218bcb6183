/** What people call a scan step, and its stone colour. */
import { useJob } from '../state/job'
import { STONES } from '../view3d/scene'

export function useNames() {
  const j = useJob()
  const captures = () => j.allStones.filter((s) => s.kind === 'scan' || s.kind === 'combine').map((s) => s.id)
  const number = (id: string) => Math.max(0, captures().indexOf(j.root(id)))
  return {
    nameOf: (id: string) => j.byId.get(j.root(id))?.name ?? id,
    numberOf: (id: string) => number(id) + 1,
    colourOf: (id: string) => STONES[number(id) % STONES.length],
    css: (id: string) => `#${STONES[number(id) % STONES.length].toString(16)}`,
  }
}
