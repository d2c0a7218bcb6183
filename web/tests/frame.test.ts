// @vitest-environment jsdom
import { zeroMoves } from '../src/kinds/frame/zero'
import { describe, expect, it, vi } from 'vitest'
import type { Stone } from '../src/api/types'
import { kindOf } from '../src/kinds/registry'
import { roomWith, stone } from './fakes'

const datum = (id: string, ...roles: string[]): Stone =>
  stone(id, 'datum', 'datum', { inputs: ['scan'], told: { roles } as unknown as Stone['told'] })
const begun = (...datums: Stone[]) => {
  const room = roomWith([stone('scan', 'scan', 'scan'), ...datums])
  const kind = kindOf('frame')!
  const record = kind.tools!.find((t) => t.id === 'frame')!.record!(room) as unknown as Record<
    string,
    unknown
  >
  return { room, kind, record }
}

describe('a frame', () => {
  it('begins with the planes in their order, and an axis for zero', () => {
    const { record } = begun(datum('bore', 'axis', 'middle'), datum('low', 'plane'), datum('side', 'plane'))
    expect(record).toMatchObject({ first: 'low', second: 'side', origin: 'bore', first_axis: 'z' })
  })

  it('takes a point for zero before an axis', () => {
    const { record } = begun(
      datum('bore', 'axis', 'middle'),
      datum('low', 'plane'),
      datum('corner', 'middle'),
    )
    expect(record).toMatchObject({ first: 'low', second: null, origin: 'corner' })
  })

  it('stands on an axis where there is no plane', () => {
    const { record } = begun(datum('pin', 'axis', 'middle'))
    expect(record).toMatchObject({ first: 'pin', second: null, origin: null })
  })

  it('each slot takes a datum from the view or the yard, and tries it', () => {
    const { room, kind, record } = begun(datum('low', 'plane'), datum('side', 'plane'))
    const tried = vi.spyOn(room.hand, 'tryIt').mockImplementation(() => {})
    kind.slots.first.put!({ what: 'datum', id: 'side', shown: [0, 0, 0] }, record as never, room)
    kind.slots.second.yard!.put(room.job.byId.get('low')!, record as never, room)
    expect(record).toMatchObject({ first: 'side', second: 'low' })
    expect(tried).toHaveBeenCalledTimes(2)
  })
})

describe('orders of trust', () => {
  const order = (chosen: boolean, moves_mm: number | null, zero_mm: number | null) => ({
    first: chosen ? 'low' : 'front',
    second: chosen ? 'front' : 'low',
    degrees: 0.2,
    edge_mm: 0.1,
    moves_mm,
    zero_mm,
    chosen,
  })

  it('say that zero moves where that is most of what the part would move', () => {
    expect(zeroMoves([order(true, 0, 0), order(false, 4.2, 3.914)])).toBe('3.91')
  })

  it('say nothing where the part turns rather, where it stays, and of one order alone', () => {
    expect(zeroMoves([order(true, 0, 0), order(false, 4.2, 1.2)])).toBe('')
    expect(zeroMoves([order(true, 0, 0), order(false, 0.004, 0.004)])).toBe('')
    expect(zeroMoves([order(true, null, null)])).toBe('')
  })
})
