// @vitest-environment jsdom
import { describe, expect, it } from 'vitest'
import { kindOf } from '../src/kinds/registry'
import { useRims } from '../src/kinds/clean/useRims'
import type { Under } from '../src/view3d/picking'
import { built, roomWith } from './fakes'

/** A rim of twelve places around a circle. */
const circle = Array.from({ length: 12 }, (_, k) => {
  const a = (k * Math.PI) / 6
  return [Math.cos(a), Math.sin(a), 0]
})
const rim = (z: number, n = 12) => ({
  points: circle.map(([x, y]) => [x, y, z]),
  place: [1, 0, z],
  length: 6 * n,
  edges: n,
  size: 2,
})
const over = (at: number, index = 0): Under => ({
  what: 'line',
  index,
  at,
  place: [circle[at][0], circle[at][1], index],
  shown: [0, 0, 0],
})

function withRims() {
  const room = roomWith(built())
  const rims = useRims()
  rims.rims = [rim(0), rim(1), rim(2)]
  return { room, rims }
}

describe('a stretch of a rim', () => {
  it('is what the drag passed over, the way it went', () => {
    const { rims } = withRims()
    expect(rims.along([over(2), over(3), over(5)])).toHaveLength(4)
    expect(rims.along([over(2), over(1), over(11)])).toEqual(
      [2, 1, 0, 11].map((k) => rims.rims![0].points[k]),
    )
  })
  it('goes across where the list of places begins', () => {
    const { rims } = withRims()
    expect(rims.along([over(10), over(11), over(0), over(1)])).toEqual(
      [10, 11, 0, 1].map((k) => rims.rims![0].points[k]),
    )
  })
  it('keeps to the rim it began on, and comes back where the drag does', () => {
    const { rims } = withRims()
    expect(rims.along([over(2), over(3), over(7, 1), over(4)])).toHaveLength(3)
    expect(rims.along([over(2), over(5), over(3)])).toHaveLength(2)
    expect(rims.along([])).toEqual([])
  })
  it('closes between its ends through its middle', () => {
    const { room } = withRims()
    const kind = kindOf('bridge')!
    room.hand.takeUp('bridge', {
      name: 'B',
      scan: 'scan',
      way: 'stretch',
      places: [],
      width: 1,
      shape: 'flat',
    })
    kind.slots.rims.stroke!.done([over(1), over(2), over(3), over(4), over(5)], room.hand.record!, room)
    room.hand.stopTrying()
    const places = room.hand.record!.places as number[][]
    expect(places).toEqual([circle[1], circle[5], circle[3]])
    expect(kind.ready(room.hand.record!, null)).toBe(true)
  })
  it('a strip goes from the rim where the drag began to the one where it ended', () => {
    const { room } = withRims()
    const kind = kindOf('bridge')!
    room.hand.takeUp('bridge', { name: 'B', scan: 'scan', way: 'strip', places: [], width: 1, shape: 'flat' })
    kind.slots.rims.stroke!.done([over(0, 0)], room.hand.record!, room)
    expect(kind.ready(room.hand.record!, null)).toBe('Drag across a gap')
    kind.slots.rims.stroke!.done([over(0, 0), over(6, 1)], room.hand.record!, room)
    room.hand.stopTrying()
    expect(room.hand.record!.places).toEqual([over(0, 0), over(6, 1)].map((p) => 'place' in p && p.place))
  })
})

describe('rims to close', () => {
  it('are all, the shortest, all but the longest, or those picked', () => {
    const { room, rims } = withRims()
    room.hand.takeUp('holes', {
      name: 'H',
      scan: 'scan',
      which: 'all',
      count: 1,
      places: [],
      shape: 'flat',
      rework: 0,
    })
    const r = room.hand.record as never as Parameters<typeof rims.picked>[0]
    expect([...rims.picked(r)]).toEqual([0, 1, 2])
    r.which = 'shortest'
    expect([...rims.picked(r)]).toEqual([0])
    r.which = 'all but the longest'
    expect([...rims.picked(r)]).toEqual([0, 1])
    rims.pick(1, r)
    expect(r.which).toBe('picked')
    expect([...rims.picked(r)]).toEqual([0])
    rims.pick(2, r)
    expect([...rims.picked(r)]).toEqual([0, 2])
    room.hand.stopTrying()
    expect(rims.asLines(r, null).map((l) => l.colour)).toEqual(['saffron', 'ink', 'saffron'])
    expect(rims.asLines(r, over(0, 1))[1].colour).toBe('brick')
  })
})
