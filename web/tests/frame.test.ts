// @vitest-environment jsdom
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
