/** A small cross at a place, as three lines of the plan. */
import type { LinePlan } from './plan'

export const cross = (p: number[], r: number, colour: LinePlan['colour'], through = false): LinePlan[] =>
  [0, 1, 2].map((k) => ({
    points: [-r, r].map((d) => p.map((v, i) => (i === k ? v + d : v))),
    closed: false,
    colour,
    through,
  }))
