/** A datum laid by a tool of another stage, where a place on the scan is clicked. */
import type { StepRecord } from '../../api/types'
import type { Room } from '../../state/room'
import type { Under } from '../../view3d/picking'
import { pickAt } from '../picks'

const LOOKS = 600 // at a tenth of a second each

/** What was clicked on a scan, laid as a datum of whatever kind it is: its id once read, null where not. */
export async function datumAt(at: Under, room: Room): Promise<string | null> {
  const pick = pickAt(at, 'same bend', null)
  if (!pick || at.what !== 'scan') return null
  const name = room.job.freeName('Read surface')
  const step = { kind: 'datum', name, scan: at.id, element: 'best', pick } as unknown as StepRecord
  if (!(await room.job.act('POST', '/stones', { step }))) return null
  const laid = () => room.job.stones.find((s) => s.name === name)
  for (let k = 0; k < LOOKS && laid()?.status === 'pending'; k++)
    await new Promise((go) => setTimeout(go, 100))
  const { id, status, says } = laid() ?? { id: null, status: 'failed', says: '' }
  if (status === 'sound' || status === 'attention') return id
  room.job.error = says || 'The surface could not be read; click farther inside it.'
  return null
}
