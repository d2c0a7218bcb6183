import { describe, expect, it } from 'vitest'
import { folds, layWall, related } from '../src/wall/layout'

const stone = (id: string, course: string, inputs: string[] = []) => ({
  id,
  name: `Stone ${id}`,
  course,
  inputs,
})

describe('the wall', () => {
  const stones = [
    stone('scan', 'scan'),
    ...Array.from({ length: 59 }, (_, k) =>
      stone(`s${k}`, ['datums', 'sketches', 'bodies'][k % 3], [k % 3 ? `s${k - 1}` : 'scan']),
    ),
  ]
  const places = layWall(stones)

  it('lays no two stones of a course over each other', () => {
    for (const course of ['datums', 'sketches', 'bodies']) {
      const row = stones.filter((s) => s.course === course).map((s) => places.get(s.id)!)
      for (let k = 1; k < row.length; k++)
        expect(row[k].left).toBeGreaterThanOrEqual(row[k - 1].left + row[k - 1].width)
    }
  })
  it('lays a stone right of what it rests on', () => {
    for (const s of stones)
      for (const i of s.inputs) expect(places.get(s.id)!.left).toBeGreaterThanOrEqual(places.get(i)!.left)
  })
  it('knows what rests on what, however far', () => {
    const chain = [
      stone('a', 'scan'),
      stone('b', 'datums', ['a']),
      stone('c', 'bodies', ['b']),
      stone('d', 'bodies'),
    ]
    expect(related(chain, 'b')).toEqual({ below: new Set(['a']), above: new Set(['c']) })
    expect(related(chain, 'd')).toEqual({ below: new Set(), above: new Set() })
  })
})

describe('the wall closed', () => {
  const s = (id: string, course: string, inputs: string[] = [], betters: string | null = null) => ({
    id,
    course,
    inputs,
    betters,
  })
  it('puts a sketch into the one body it serves, and a scan into what betters it', () => {
    const stones = [
      s('raw', 'scan'),
      s('clean', 'scan', ['raw'], 'raw'),
      s('smooth', 'scan', ['clean'], 'clean'),
      s('k1', 'sketches', ['smooth']),
      s('b1', 'bodies', ['k1', 'smooth']),
      s('k2', 'sketches', ['smooth']),
      s('b2', 'bodies', ['k2', 'b1'], 'b1'),
      s('b3', 'bodies', ['k2', 'b2'], 'b2'),
    ]
    const found = folds(stones)
    expect(found.get('smooth')).toEqual(['raw', 'clean'])
    expect(found.get('b1')).toEqual(['k1'])
    expect([...found.values()].flat()).not.toContain('k2') // two bodies rest on it
    expect([...found.values()].flat()).not.toContain('b1') // a feature is never hidden by the next
  })
})
