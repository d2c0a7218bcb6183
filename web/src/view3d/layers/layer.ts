/** A layer of the view: it draws what it is given, and takes it away again. */
import type { Scene, Solid } from '../scene'

export abstract class Layer<S> {
  private asked = 0
  constructor(protected readonly scene: Scene) {}

  /** Show this, or nothing. Only the newest wish counts. */
  abstract set(spec: S | null): void | Promise<void>
  abstract dispose(): void
  /** What the view is fitted to. */
  extent(): Solid[] {
    return []
  }

  /** A question whether what was wished for is still wished for, for those who fetch first. */
  protected newest(): () => boolean {
    const mine = ++this.asked
    return () => mine === this.asked
  }
}
