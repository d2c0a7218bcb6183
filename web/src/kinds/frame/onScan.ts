/** What the tools share that one click on the scan fills, and how figures with their ± are written. */
import type { PickRecord } from '../../api/types'
import type { Room } from '../../state/room'
import type { Under } from '../../view3d/picking'
import type { Slot } from '../kind'
import { needScan, pickAt } from '../picks'

type Picked = { pick: PickRecord | null }

/** The slot that one place on the scan fills. */
export const placeSlot = <R extends Picked>(says: string): Slot<R> => ({
  takes: ['scan'],
  says,
  put: (at, r, room) => {
    const pick = pickAt(at, 'same facing', r.pick)
    if (!pick) return
    r.pick = pick
    room.hand.again()
  },
})
/** What a tool that begins on the scan has in common. */
export const ONTO_SCAN = {
  needs: needScan,
  slot: 'pick',
  begins: (room: Room) => {
    room.shown.show.scan = true
  },
}
/** The scan and the pick of the one place that was clicked on it; null where it was another thing. */
export function clicked(given: Under[]): { scan: string; pick: PickRecord } | null {
  const at = given[0]
  const pick = given.length === 1 ? pickAt(at, 'same facing', null) : null
  return pick && at.what === 'scan' ? { scan: at.id, pick } : null
}
/** "6.972 ± 0.064": two sigma, never finer than the last digit shown. */
export const plusMinus = (value: number, sigma: number | null, digits: number) =>
  `${value.toFixed(digits)} ± ${Math.max(2 * (sigma ?? 0), 10 ** -digits).toFixed(digits)}`
