/** Where zero lies in either order of trust. */
import type { Schemas } from '../../api/types'

const LEAST = 0.01 // mm

/** How far zero would lie elsewhere in the other order, mm, where that is most of the part's move. */
export function zeroMoves(orders: Schemas['Order'][]): string {
  const other = orders.find((o) => !o.chosen)
  const mm = other?.zero_mm ?? 0
  return other && mm > LEAST && mm > (other.moves_mm ?? 0) / 2 ? mm.toFixed(2) : ''
}
