import { describe, expect, it } from 'vitest'
import {
  dot,
  drawn,
  lanesOver,
  lookFrom,
  placeAt,
  ruleOf,
  SIDES,
  turned,
  type Vec,
} from '../src/capture/camera'
import { Splat } from '../src/capture/splat'

const [WIDE, HIGH] = [400, 300]

describe('the look of a capture', () => {
  it.each(SIDES)('finds a place again where it is drawn, from $name', ({ toward, up }) => {
    const c = lookFrom(toward, up, [10, -4, 3], 2.5)
    const p: Vec = [17, 5, -2]
    const at = drawn(c, p, WIDE, HIGH)
    placeAt(c, at.x, at.y, WIDE, HIGH, at.near).forEach((v, k) => expect(v).toBeCloseTo(p[k], 9))
  })
  it('stays square however it is turned, and keeps its middle', () => {
    let c = lookFrom([0, 0, 1], [0, 1, 0], [1, 2, 3], 4)
    for (let k = 0; k < 25; k++) c = turned(c, 0.3, k % 2 ? 0.2 : -0.1)
    for (const [a, b] of [
      [c.right, c.up],
      [c.up, c.toward],
      [c.toward, c.right],
    ])
      expect(dot(a, b)).toBeCloseTo(0, 9)
    expect(dot(c.up, c.up)).toBeCloseTo(1, 9)
    expect(c.middle).toEqual([1, 2, 3])
  })
  it('goes to and fro in lanes no farther apart than the line is wide, above all of it', () => {
    const c = lookFrom([0, 0, 1], [0, 1, 0], [0, 0, 0], 1)
    const box = [0, 1, 2, 3, 4, 5, 6, 7].map((k) => [100 * (k & 1), 50 * ((k >> 1) & 1), 20 * (k >> 2)])
    const lanes = lanesOver(c, box, box, 15)
    const heights = [...new Set(lanes.map((p) => p[1]))]
    expect(lanes.every((p) => p[2] > 20)).toBe(true)
    expect(heights.length).toBe(4)
    expect(heights[1] - heights[0]).toBeLessThanOrEqual(15)
    expect(lanes[0][0]).toBe(0)
    expect(lanes[1][0]).toBe(100)
    expect(lanes[2][0]).toBe(100)
  })
  it('has a rule of a round length', () => {
    for (const scale of [0.03, 1, 4.1, 900]) {
      const { mm, pixels } = ruleOf(scale)
      expect(pixels).toBeLessThanOrEqual(110)
      expect(pixels).toBeGreaterThan(40)
      expect([1, 2, 5]).toContain(Math.round(mm / 10 ** Math.floor(Math.log10(mm) + 1e-9)))
    }
  })
})

describe('points drawn', () => {
  const colours = { near: [10, 0, 0], far: [10, 0, 0], fresh: [0, 20, 0], image: [0, 0, 30] }
  const image = () => ({ width: 20, height: 20, data: new Uint8ClampedArray(1600) }) as unknown as ImageData
  it('shows the nearest, and what came last in its own colour', () => {
    const splat = new Splat(image(), lookFrom([0, 0, 1], [0, 1, 0], [0, 0, 0], 1), 10)
    splat.points(new Float32Array([0, 0, 5, 0, 0, -5]), 2, 1, colours)
    expect([...splat.image.data.slice(4 * (10 * 20 + 10), 4 * (10 * 20 + 10) + 4)]).toEqual([10, 0, 0, 255])
    splat.points(new Float32Array([0, 0, 8]), 1, 0, colours)
    expect(splat.image.data[4 * (10 * 20 + 10) + 1]).toBe(20)
  })
  it('draws the image in a mirror', () => {
    const splat = new Splat(image(), lookFrom([0, 0, 1], [0, 1, 0], [0, 0, 0], 1), 10)
    splat.points(new Float32Array([4, 0, 0]), 1, 1, colours, { point: [0, 0, 0], normal: [1, 0, 0] })
    expect(splat.image.data[4 * (10 * 20 + 6) + 2]).toBe(30)
  })
})
