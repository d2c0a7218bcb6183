import { describe, expect, it } from 'vitest'
import { tideColor } from '../src/check/tide'
import { mm, pm, short, signed } from '../src/state/format'

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

describe('figures', () => {
  it('read as people write them', () => {
    expect(mm(-0.0001)).toBe('0.000')
    expect(mm(25.4, 3, true)).toBe('1.0000')
    expect(signed(-0.25)).toBe('−0.250')
    expect(signed(0.25)).toBe('+0.250')
    expect(pm(0.0001)).toBe('± <0.001')
    expect(short(8.5)).toBe('8.5')
    expect(mm(null)).toBe('–')
  })
})
