import { describe, expect, it } from 'vitest'
import { loopsInSpace, type SketchTold } from '../src/kinds/build/loops'

const line = (id: string, start: number[], end: number[]) => ({ id, kind: 'line', start, end, ccw: true })
const told = (geometry: unknown[], loops: string[][], plane = {}) =>
  ({
    geometry,
    loops,
    plane: { origin: [0, 0, 5], normal: [0, 0, 1], u: [1, 0, 0], ...plane },
  }) as unknown as SketchTold

describe('loops in space', () => {
  it('follow on from piece to piece, whichever way each was drawn', () => {
    const square = [
      line('a', [0, 0], [4, 0]),
      line('b', [4, 3], [4, 0]),
      line('c', [4, 3], [0, 3]),
      line('d', [0, 0], [0, 3]),
    ]
    const [loop] = loopsInSpace('k', told(square, [['a', 'b', 'c', 'd']]))
    expect(loop.points).toEqual([
      [0, 0, 5],
      [4, 0, 5],
      [4, 3, 5],
      [0, 3, 5],
      [0, 0, 5],
      [0, 0, 5],
    ])
    expect(loop.entity).toBe('a')
  })
  it('turn a first piece that was drawn the other way', () => {
    const corner = [line('a', [4, 0], [0, 0]), line('b', [4, 0], [4, 3]), line('c', [4, 3], [0, 0])]
    const [loop] = loopsInSpace('k', told(corner, [['a', 'b', 'c']]))
    expect(loop.points.slice(0, 3).map((p) => p.slice(0, 2))).toEqual([
      [0, 0],
      [4, 0],
      [4, 3],
    ])
  })
  it('are as round as their arcs, the short way or the long', () => {
    const arc = (ccw: boolean) => ({
      id: 'a',
      kind: 'arc',
      center: [0, 0],
      radius: 2,
      start: [2, 0],
      end: [0, 2],
      ccw,
    })
    for (const [ccw, turn] of [
      [true, Math.PI / 2],
      [false, 1.5 * Math.PI],
    ] as const) {
      const [loop] = loopsInSpace('k', told([arc(ccw)], [['a']]))
      const p = loop.points.slice(0, -1)
      const long = p.slice(1).reduce((t, q, i) => t + Math.hypot(q[0] - p[i][0], q[1] - p[i][1]), 0)
      expect(long).toBeCloseTo(2 * turn, 1)
      for (const q of p) expect(Math.hypot(q[0], q[1])).toBeCloseTo(2)
    }
  })
  it('lie in their plane, however it lies', () => {
    const ring = { id: 'a', kind: 'circle', center: [1, 2], radius: 3, ccw: true }
    const s = Math.SQRT1_2
    const plane = { origin: [5, 6, 7], normal: [0, s, s], u: [1, 0, 0] }
    const [loop] = loopsInSpace('k', told([ring], [['a']], plane))
    for (const p of loop.points) expect((p[1] - 6) * s + (p[2] - 7) * s).toBeCloseTo(0)
    const middle = [6, 6 + 2 * s, 7 - 2 * s]
    for (const p of loop.points) expect(Math.hypot(...p.map((v, k) => v - middle[k]))).toBeCloseTo(3)
  })
})
