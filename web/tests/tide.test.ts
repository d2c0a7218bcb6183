import { describe, expect, it } from 'vitest'
import { fullAt, tideColor } from '../src/check/tide'

describe('tide', () => {
  it('is bone inside tolerance, falls in lightness both ways, grey where unanswered', () => {
    const light = (d: number) => tideColor(d, 0.1, 0.5).reduce((a, b) => a + b)
    expect(tideColor(0.09, 0.1, 0.5)).toEqual([0xef, 0xeb, 0xdd])
    for (const side of [1, -1])
      for (let d = 0.11; d < 0.6; d += 0.05)
        expect(light(side * (d + 0.05))).toBeLessThanOrEqual(light(side * d))
    expect(tideColor(0.3, 0.1, 0.5)).not.toEqual(tideColor(-0.3, 0.1, 0.5))
    expect(tideColor(NaN, 0.1, 0.5)).toEqual([0x9a, 0x97, 0x90])
  })
})

describe('where colour is full', () => {
  it('is told by the places that have an answer, however many have none', () => {
    const values = new Float32Array(400).map((_, i) => (i % 4 === 0 ? NaN : i % 2 ? 0.5 : -0.5))
    expect(fullAt(values)).toBeCloseTo(0.5)
    expect(fullAt(new Float32Array([NaN, NaN]))).toBeGreaterThan(0)
  })
})
