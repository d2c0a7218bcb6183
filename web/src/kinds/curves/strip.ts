/** The unrolled strip's arithmetic: where a helix lies on it, and what pulling at it does to its numbers. */
import type { Schemas } from '../../api/types'

export type Told = Schemas['HelixTold']
export type Record = Schemas['HelixStep']
/** A sample of the line: turns from where angles are counted, height and radius, mm. */
export type Sample = [number, number, number]
/** A pull in hand: at the whole line, at one of its ends, or at a share of its height; up by so many mm. */
export type Pull = { at: 'line' | 'begin' | 'end' | number; by: number }

export const WIDE = 2 // turns across

/** How much of a pull a sample at a share of the height follows. */
export function follows(pull: Pull, share: number): number {
  if (pull.at === 'line') return 1
  if (pull.at === 'begin') return 1 - share
  if (pull.at === 'end') return share
  const off = Math.abs(share - pull.at) / (share < pull.at ? pull.at : 1 - pull.at || 1)
  return Math.max(0, 1 - off)
}

/** The line with a pull on it. */
export function pulled(run: Sample[], pull: Pull | null): Sample[] {
  if (!pull) return run
  const n = Math.max(1, run.length - 1)
  return run.map(([t, h, r], k) => [t, h + pull.by * follows(pull, k / n), r])
}

/** The line's pieces within the strip: turns from 0 to WIDE, all starts, each as (turn, height). */
export function onStrip(run: Sample[], starts: number): [number, number][][] {
  const out: [number, number][][] = []
  const turns = run.map((s) => s[0])
  const [least, most] = [Math.min(...turns), Math.max(...turns)]
  for (let k = 0; k < starts; k++) {
    const beside = k / starts
    for (let n = Math.floor(-most - beside); n <= Math.ceil(WIDE - least - beside); n++) {
      const by = n + beside
      let piece: [number, number][] = []
      for (let i = 1; i < run.length; i++) {
        const [a, b] = [run[i - 1], run[i]]
        const x0 = a[0] + by
        const x1 = b[0] + by
        const into = (x: number) => Math.min(WIDE, Math.max(0, x))
        const [c0, c1] = [into(x0), into(x1)]
        if (c0 === c1) {
          if (piece.length > 1) out.push(piece)
          piece = []
          continue
        }
        const height = (x: number) => a[1] + ((x - x0) / (x1 - x0)) * (b[1] - a[1])
        if (!piece.length) piece.push([c0, height(c0)])
        piece.push([c1, height(c1)])
      }
      if (piece.length > 1) out.push(piece)
    }
  }
  return out
}

/** Where a place of the line is drawn first: its turn brought into the strip's first turn. */
export const firstTurn = (turn: number) => ((turn % 1) + 1) % 1

/** What a pull makes of the record: shifted along its axis, tilted by pitch and height, or bent. */
export function settle(r: Record, told: Told, pull: Pull) {
  const round = (v: number) => Number(v.toFixed(4))
  if (pull.at === 'line') {
    r.shift = round(r.shift + pull.by)
    return
  }
  if (typeof pull.at === 'number') {
    const at = Number(pull.at.toFixed(3))
    const near = r.pins.find((p) => Math.abs(p.at - at) < 0.02)
    if (near) near.by = round(near.by + pull.by)
    else r.pins = [...r.pins, { at, by: round(pull.by) }].sort((a, b) => a.at - b.at)
    return
  }
  // The turns stay: an end that is pulled changes the height, and with it the pitch.
  const longer = pull.at === 'end' ? pull.by : -pull.by
  const height = told.height + longer
  if (height <= 0) return
  r.turns = { value: round(told.turns), source: 'typed' }
  r.height = { value: round(height), source: 'typed' }
  r.following = 'pitch'
  // An even line grows about its middle, one that varies from its foot; the other end stays where it was.
  if (told.varies) r.shift = round(r.shift + (pull.at === 'begin' ? pull.by : 0))
  else r.shift = round(r.shift + pull.by / 2)
}

/** The nearest place of the line to one of the strip: its share of the height, and how far up it lies. */
export function nearest(run: Sample[], starts: number, turn: number, height: number) {
  let best = { share: 0, up: Infinity, turn: 0, height: 0 }
  run.forEach(([t, h], k) => {
    for (let s = 0; s < starts; s++) {
      const off = turn - (t + s / starts)
      const across = Math.abs(off - Math.round(off))
      if (across < 0.03 && Math.abs(height - h) < Math.abs(best.up))
        best = { share: k / Math.max(1, run.length - 1), up: height - h, turn: t, height: h }
    }
  })
  return best
}
