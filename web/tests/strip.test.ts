import { describe, expect, it } from 'vitest'
import {
  firstTurn,
  follows,
  nearest,
  onStrip,
  pulled,
  settle,
  type Record,
  type Sample,
  type Told,
} from '../src/kinds/curves/strip'

const run: Sample[] = Array.from({ length: 101 }, (_, k) => [0.25 + (4 * k) / 100, (10 * k) / 100, 8])
const told = { turns: 4, height: 10, pitch: 2.5, lead: 2.5, varies: false } as Told
const blank = () => ({ shift: 0, pins: [], following: 'turns', turns: {}, height: {} }) as unknown as Record

describe('the unrolled strip', () => {
  it('shows every piece of the line twice over two turns, on its own slope', () => {
    const pieces = onStrip(run, 1)
    const across = pieces.reduce((sum, p) => sum + p[p.length - 1][0] - p[0][0], 0)
    expect(across).toBeCloseTo(8, 6)
    for (const p of pieces) {
      expect(p.every(([t]) => t >= 0 && t <= 2)).toBe(true)
      const [a, b] = [p[0], p[p.length - 1]]
      expect((b[1] - a[1]) / (b[0] - a[0])).toBeCloseTo(2.5, 6)
    }
    expect(onStrip(run, 2).length).toBeGreaterThan(pieces.length)
  })
  it('runs the other way for the left hand', () => {
    const left = run.map(([t, h, r]): Sample => [-t, h, r])
    for (const p of onStrip(left, 1)) expect(p[p.length - 1][0]).toBeLessThan(p[0][0])
  })
  it('follows a pull where it is pulled', () => {
    expect(follows({ at: 'line', by: 1 }, 0.3)).toBe(1)
    expect(follows({ at: 'begin', by: 1 }, 0.25)).toBe(0.75)
    expect(follows({ at: 'end', by: 1 }, 0.25)).toBe(0.25)
    expect(follows({ at: 0.5, by: 1 }, 0.25)).toBe(0.5)
    expect(pulled(run, { at: 'line', by: 2 })[50][1]).toBeCloseTo(7)
    expect(pulled(run, null)).toBe(run)
  })
  it('shifts by a drag, tilts by an end, bends by a pin', () => {
    const r = blank()
    settle(r, told, { at: 'line', by: 0.4 })
    expect(r.shift).toBe(0.4)
    settle(r, told, { at: 'end', by: 1 })
    expect(r.following).toBe('pitch')
    expect(r.height.value).toBe(11)
    expect(r.turns.value).toBe(4)
    expect(r.shift).toBeCloseTo(0.9) // about its middle it grew by half at both ends
    const other = blank()
    settle(other, { ...told, varies: true }, { at: 'begin', by: 1 })
    expect([other.height.value, other.shift]).toEqual([9, 1])
    settle(other, told, { at: 0.5, by: 0.3 })
    settle(other, told, { at: 0.505, by: 0.2 })
    expect(other.pins).toEqual([{ at: 0.5, by: 0.5 }])
    settle(other, told, { at: 'end', by: -20 })
    expect(other.height.value).toBe(9) // nothing is left to pull at
  })
  it('finds the place of the line that is meant', () => {
    const hit = nearest(run, 1, 1.25, 2.6)
    expect(hit.share).toBeCloseTo(0.25, 2)
    expect(hit.up).toBeCloseTo(0.1, 1)
    expect(firstTurn(-0.25)).toBeCloseTo(0.75)
  })
})
