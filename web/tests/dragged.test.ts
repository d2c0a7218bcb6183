// @vitest-environment jsdom
import { describe, expect, it, vi } from 'vitest'
import type { Vec3 } from '../src/api/types'
import { heightChosen } from '../src/kinds/build/dragged'
import { kindOf } from '../src/kinds/registry'
import { built, roomWith, stone } from './fakes'

/** The frame: turned by a quarter about z and lifted by 5. */
const MATRIX = [
  [0, -1, 0, 0],
  [1, 0, 0, 0],
  [0, 0, 1, 5],
  [0, 0, 0, 1],
]
const typed = (value: number) => ({ value, source: 'typed' })

function held(kind: string, record: Record<string, unknown>, told: Record<string, unknown>) {
  const stones = built()
  stones.find((s) => s.id === 'axes')!.told = { matrix: MATRIX }
  stones.find((s) => s.id === 'low')!.told = {
    element: 'plane',
    parameters: { point: [3, 4, 7.25], normal: [0, 0, -1] },
  }
  const room = roomWith(stones)
  room.hand.takeUp(kind, { name: 'X', ...record })
  room.hand.preview = { summary: told, values: [], status: 'sound', says: '' } as never
  return { room, record: room.hand.record!, handles: kindOf(kind)!.slots.on.handles! }
}
const near = (a: number[], b: number[]) => a.forEach((c, k) => expect(c).toBeCloseTo(b[k], 6))

describe('dots along an axis', () => {
  const axis = [
    [10, 2, 40],
    [0, 0, 1],
  ]

  it('stand at both ends of a solid, in the coordinates of the scan', () => {
    const { room, record, handles } = held(
      'solid',
      { shape: 'cylinder', reach: 'heights', low: typed(2), high: typed(30) },
      { axis },
    )
    const [low, high] = handles.of(record, room)
    near(low, [2, -10, -3])
    near(high, [2, -10, 25])
    near(handles.way!(0, record, room)!, [0, 0, 1])
  })

  it('give a height that is round, or a flat face’s that was read nearby', () => {
    const { room, record, handles } = held(
      'solid',
      { shape: 'cylinder', reach: 'heights', low: typed(2), high: typed(30) },
      { axis },
    )
    handles.move(1, [8, 8, 20.0437] as Vec3, record, room)
    expect(record.high).toEqual(typed(25))
    handles.move(1, [8, 8, 7.4] as Vec3, record, room)
    expect((record.high as { value: number }).value).toBeCloseTo(12.25, 9)
  })

  it('count from the plane that cuts off', () => {
    const { room, record, handles } = held('cutoff', { body: 'base', offset: typed(4) }, { axis })
    near(handles.of(record, room)[0], [2, -10, 39])
    handles.move(0, [0, 0, 33] as Vec3, record, room)
    expect((record.offset as { value: number }).value).toBeCloseTo(-2, 9)
  })

  it('are none where a solid is led past the part', () => {
    const { room, record, handles } = held('solid', { shape: 'cylinder', reach: 'part' }, { axis })
    expect(handles.of(record, room)).toEqual([])
  })

  it('have as many digits as a part of any size can tell', () => {
    expect(heightChosen(0.61237, [], 2)).toBe(0.61)
    expect(heightChosen(6123.7, [], 20_000)).toBe(6100)
    expect(heightChosen(0.02, [], 20_000)).toBe(0)
  })
})

describe('a solid from a datum', () => {
  it('becomes what the datum is, with sizes as it says', () => {
    const { room, record } = held('solid', { shape: 'box', result: 'solid', radius: typed(5) }, {})
    room.job.byId.get('bore')!.told = { element: 'cone' }
    kindOf('solid')!.slots.on.put!({ what: 'datum', id: 'bore', shown: [0, 0, 0] }, record, room)
    expect(record).toMatchObject({
      shape: 'cone',
      on: 'bore',
      radius: { value: null },
      top_radius: { value: null },
    })
  })

  it('is a flat where a surface is wanted of a plane', () => {
    const { room, record } = held('solid', { shape: 'cylinder', result: 'surface' }, {})
    kindOf('solid')!.slots.on.put!({ what: 'datum', id: 'low', shown: [0, 0, 0] }, record, room)
    expect(record).toMatchObject({ shape: 'flat', on: 'low' })
  })

  it('is laid by one click on the scan, by what is read there', async () => {
    const { room, record } = held('solid', { shape: 'box', result: 'solid', radius: typed(5) }, {})
    const asked: unknown[] = []
    vi.spyOn(room.hand, 'again').mockImplementation(() => {})
    vi.spyOn(room.job, 'act').mockImplementation((_m, _p, body) => {
      const { step } = body as { step: { name: string; element: string; pick: { place: number[] } } }
      asked.push([step.element, step.pick.place])
      room.job.job!.stones.push(
        stone('read', 'datum', 'datum', { name: step.name, told: { element: 'sphere' } as never }),
      )
      return Promise.resolve(true)
    })
    const at = { what: 'scan', id: 'scan', place: [1, 2, 3], normal: [0, 0, 1], shown: [1, 2, 3], facet: 4 }
    await kindOf('solid')!.slots.on.put!(at as never, record, room)
    expect(asked).toEqual([['best', [1, 2, 3]]])
    expect(record).toMatchObject({ on: 'read', shape: 'ball', radius: { value: null } })
  })
})
