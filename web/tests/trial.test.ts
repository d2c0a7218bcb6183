import { beforeEach, describe, expect, it } from 'vitest'
import { still, trial, tried } from '../src/kinds/frame/trial'
import { rimOf } from '../src/view3d/rim'

const HERE = [
  [1, 0, 0, 5],
  [0, 1, 0, 6],
  [0, 0, 1, 7],
  [0, 0, 0, 1],
]

describe('open freedoms that are tried', () => {
  beforeEach(() => still())

  it('turn and move the part in its own frame, and only those that are open', () => {
    trial.by = { 'turn about z': 90, 'move along x': 3 }
    const m = tried(HERE, ['turn about z'])
    expect(m.map((r) => Number(r[3].toFixed(9)))).toEqual([-6, 5, 7, 1])
    expect(tried(HERE, ['move along x'])[0][3]).toBe(8)
    const both = tried(HERE, ['turn about z', 'move along x'])
    expect(both[0][3]).toBeCloseTo(-3, 9)
  })

  it('leave it where it is while nothing is dragged', () => {
    expect(tried(HERE, ['turn about x'])).toBe(HERE)
  })
})

describe('rims of outlines', () => {
  const at = { center: [1, 2, 3], up: [0, 0, 1], direction: [1, 0, 0] }

  it('run round a slot, its length over all', () => {
    const rim = rimOf('slot', { ...at, length: 24, width: 8 })!
    expect(Math.max(...rim.map((p) => p.x))).toBeCloseTo(13, 9)
    expect(Math.max(...rim.map((p) => p.y))).toBeCloseTo(6, 9)
    expect(rim.every((p) => p.z === 3)).toBe(true)
  })

  it('round a rectangle by its corners, a circle by its radius', () => {
    const rim = rimOf('rectangle', { ...at, length: 10, width: 6, corner: 1 })!
    const corner = Math.max(...rim.map((p) => Math.hypot(p.x - 1, p.y - 2)))
    expect(corner).toBeCloseTo(Math.hypot(4, 2) + 1, 3)
    const circle = rimOf('circle', { center: [0, 0, 0], normal: [1, 0, 0], radius: 4 })!
    expect(circle.every((p) => Math.abs(p.length() - 4) < 1e-9 && Math.abs(p.x) < 1e-9)).toBe(true)
  })

  it('are none of what has none', () => {
    expect(rimOf('plane', { center: [0, 0, 0] })).toBeNull()
  })
})
