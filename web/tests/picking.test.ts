import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { nearestOnLines, sameThing, type Under } from '../src/view3d/picking'

const at = (x: number, y: number, z = 0) => new THREE.Vector3(x, y, z)
/** The screen is the x-y plane, ten pixels a millimetre. */
const toPixel = (p: THREE.Vector3) => p.multiplyScalar(10)

describe('lines under the pointer', () => {
  const lines = [
    [at(0, 0), at(10, 0)],
    [at(0, 2), at(10, 2, 5)],
  ]
  it('are found along their whole length, not at their points alone', () => {
    const got = nearestOnLines(lines, toPixel, 47, 4, 16)!
    expect(got.line).toBe(0)
    expect(got.point.x).toBeCloseTo(4.7)
    expect(got.at).toBe(0)
    expect(nearestOnLines(lines, toPixel, 80, 3, 16)!.at).toBe(1)
  })
  it('are the nearest of several, and none beyond reach', () => {
    expect(nearestOnLines(lines, toPixel, 50, 14, 16)!.line).toBe(1)
    expect(nearestOnLines(lines, toPixel, 50, 60, 16)).toBeNull()
    expect(nearestOnLines([], toPixel, 0, 0, 16)).toBeNull()
  })
  it('may have no length', () => {
    expect(nearestOnLines([[at(1, 1), at(1, 1)]], toPixel, 12, 10, 16)!.line).toBe(0)
  })
})

describe('the same thing', () => {
  const shown: [number, number, number] = [0, 0, 0]
  it('is known by its name, never by where it was clicked', () => {
    const edge = (place: [number, number, number]): Under => ({
      what: 'edge',
      body: 'b',
      name: ['x', 'y', 1],
      place,
      shown,
    })
    expect(sameThing(edge([0, 0, 0]), edge([5, 5, 5]))).toBe(true)
    expect(sameThing({ what: 'datum', id: 'a', shown }, { what: 'datum', id: 'b', shown })).toBe(false)
    expect(sameThing({ what: 'datum', id: 'a', shown }, edge([0, 0, 0]))).toBe(false)
  })
})
