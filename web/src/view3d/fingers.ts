/** Two fingers move and zoom what is looked at; one does what the pointer does. */
export type TwoFingers = { dx: number; dy: number; zoom: number; x: number; y: number }
type Finger = Pick<PointerEvent, 'pointerId' | 'pointerType' | 'offsetX' | 'offsetY'>

export class Fingers {
  private readonly at = new Map<number, { x: number; y: number }>()
  private two = false

  /** Whether it is a second finger: what the first one began is let go. */
  down(e: Finger): boolean {
    if (e.pointerType !== 'touch') return false
    if (!this.at.size) this.two = false
    this.at.set(e.pointerId, { x: e.offsetX, y: e.offsetY })
    if (this.at.size > 1) this.two = true
    return this.two
  }
  /** How two fingers moved, how much nearer they want it (below 1), where; null unless there are two. */
  moves(e: Finger): TwoFingers | null {
    const before = this.middle()
    if (!this.at.has(e.pointerId)) return null
    this.at.set(e.pointerId, { x: e.offsetX, y: e.offsetY })
    const now = this.middle()
    if (!before || !now) return null
    const [dx, dy] = [now.x - before.x, now.y - before.y]
    return { dx, dy, zoom: before.apart / now.apart, x: now.x, y: now.y }
  }
  /** Whether the finger was one of two: its going is no click. */
  up(e: Finger): boolean {
    this.at.delete(e.pointerId)
    return e.pointerType === 'touch' && this.two
  }
  private middle() {
    if (this.at.size !== 2) return null
    const [a, b] = [...this.at.values()]
    return { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2, apart: Math.hypot(a.x - b.x, a.y - b.y) || 1 }
  }
}
