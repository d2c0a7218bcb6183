import { describe, expect, it } from 'vitest'
import { Fingers } from '../src/view3d/fingers'
import { spoken } from '../src/view3d/spoken'

const at = (pointerId: number, offsetX: number, offsetY: number, pointerType = 'touch') => ({
  pointerId,
  pointerType,
  offsetX,
  offsetY,
})

describe('fingers', () => {
  it('leave one finger, a mouse and a pen to whoever draws', () => {
    const f = new Fingers()
    expect(f.down(at(1, 10, 10))).toBe(false)
    expect(f.moves(at(1, 30, 10))).toBe(null)
    expect(f.up(at(1, 30, 10))).toBe(false)
    expect(f.down(at(2, 0, 0, 'pen'))).toBe(false)
    expect(f.down(at(3, 0, 0, 'mouse'))).toBe(false)
    expect(f.moves(at(3, 5, 5, 'mouse'))).toBe(null)
  })
  it('move and zoom about their middle when there are two, and are no click when they go', () => {
    const f = new Fingers()
    f.down(at(1, 100, 100))
    expect(f.down(at(2, 200, 100))).toBe(true)
    const two = f.moves(at(2, 300, 100))!
    expect(two).toEqual({ dx: 50, dy: 0, zoom: 0.5, x: 200, y: 100 })
    expect(f.up(at(1, 100, 100))).toBe(true)
    expect(f.moves(at(2, 320, 100))).toBe(null)
    expect(f.up(at(2, 300, 100))).toBe(true)
    expect(f.down(at(3, 1, 1))).toBe(false)
  })
})

describe('what is read out', () => {
  const name = (id: string) => ({ b: 'Base', d: 'Seat face' })[id] ?? id
  it('names faces, edges and datums', () => {
    const shown = [0, 0, 0] as [number, number, number]
    expect(spoken({ what: 'datum', id: 'd', shown }, name)).toBe('datum: Seat face')
    const face = { what: 'face', body: 'b', name: 'top', place: shown, normal: shown, shown } as const
    expect(spoken(face, name)).toContain('of Base')
    expect(spoken(null, name)).toBe('')
  })
})
