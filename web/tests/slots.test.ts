// @vitest-environment jsdom
import { describe, expect, it, vi } from 'vitest'
import { kindOf } from '../src/kinds/registry'
import { suits } from '../src/kinds/frame/ways'
import { byHand, look, looked, next } from '../src/kinds/zones/shown'
import type { Under } from '../src/view3d/picking'
import { built, roomWith } from './fakes'

const onScan = (place: [number, number, number]): Under => ({
  what: 'scan',
  id: 'scan',
  place,
  normal: [0, 0, 1],
  shown: place,
  facet: 3,
})

function held(kind: string, record: Record<string, unknown>) {
  const room = roomWith(built())
  for (const ask of ['tryIt', 'showPick', 'again'] as const)
    vi.spyOn(room.hand, ask).mockImplementation(() => Promise.resolve())
  room.hand.takeUp(kind, { name: 'X', ...record })
  return { room, kind: kindOf(kind)!, record: room.hand.record! }
}

describe('slots', () => {
  it('an extrusion asks for both faces in turn and is tried when it has them', () => {
    const face = { to: 'face', pick: null, height: { value: null, source: 'rounded' } }
    const { room, kind, record } = held('extrude', {
      scan: 'scan',
      how: 'join',
      loops: [],
      start: face,
      end: face,
    })
    room.hand.slot = 'start'
    expect(kind.ready(record, null)).toBe('Click the face where it begins')
    kind.slots.start.put!(onScan([1, 2, 3]), record, room)
    expect(room.hand.slot).toBe('end')
    expect(kind.ready(record, null)).toBe('Click the face where it ends')
    expect(room.hand.tryIt).not.toHaveBeenCalled()
    kind.slots.end.put!(onScan([1, 2, 9]), record, room)
    expect(kind.ready(record, null)).toBe(true)
    expect(room.hand.tryIt).toHaveBeenCalledOnce()
    expect((record.end as { pick: { place: number[] } }).pick.place).toEqual([1, 2, 9])
  })

  it('a slot does not take what it does not say it takes', () => {
    const { room, kind, record } = held('datum', { scan: 'scan', element: 'plane', pick: null })
    kind.slots.place.put!({ what: 'datum', id: 'low', shown: [0, 0, 0] }, record, room)
    expect(record.pick).toBeNull()
  })

  it('a datum keeps its widened angle when another place is clicked', () => {
    const { room, kind, record } = held('datum', { scan: 'scan', element: 'plane', pick: null })
    kind.slots.place.put!(onScan([0, 0, 0]), record, room)
    kind.widens(1.25, record, room)
    expect((record.pick as { angle_deg: number }).angle_deg).toBe(25)
    kind.slots.place.put!(onScan([5, 0, 0]), record, room)
    expect((record.pick as { angle_deg: number }).angle_deg).toBe(25)
  })

  it('a frame takes datums from the view and from the yard', () => {
    const { room, kind, record } = held('frame', { first: 'low', second: null, origin: null })
    kind.slots.second.put!({ what: 'datum', id: 'front', shown: [0, 0, 0] }, record, room)
    kind.slots.origin.yard!.put(room.job.byId.get('bore')!, record, room)
    expect(record).toMatchObject({ first: 'low', second: 'front', origin: 'bore' })
  })

  it('a loop clicked is pushed, clicked again it is left', () => {
    const face = { to: 'through', pick: null, height: { value: null, source: 'rounded' } }
    const { room, kind, record } = held('extrude', {
      scan: 'scan',
      sketch: 'outline',
      loops: [],
      start: face,
      end: face,
    })
    const loop: Under = { what: 'loop', sketch: 'outline', entity: 'e3', shown: [0, 0, 0], points: [] }
    kind.slots.loops.put!(loop, record, room)
    expect(record.loops).toEqual(['e3'])
    kind.slots.loops.put!({ ...loop, sketch: 'other' }, record, room)
    kind.slots.loops.put!(loop, record, room)
    expect(record.loops).toEqual([])
  })

  it('what is the hand’s own is never sent', () => {
    expect(kindOf('fillet')!.handOnly).toEqual(['alike'])
  })
})

describe('what can be made of this', () => {
  const offers = (given: Under[]) => {
    const room = roomWith(built())
    return ['datum', 'frame', 'extrude', 'fillet'].flatMap((k) => kindOf(k)!.offers(given, room))
  }
  it('a place on the scan is whatever the scan says it is', () => {
    const [o, ...rest] = offers([onScan([1, 1, 1])])
    expect(rest).toEqual([])
    expect(o.record).toMatchObject({ kind: 'datum', element: 'best', pick: { rule: 'same bend' } })
    const told = (element: string) => ({
      status: 'sound',
      says: '',
      key: null,
      values: [],
      summary: { element, area: 400, scatter: 0.02, says: '⌀ 12.000 ± 0.002', parameters: {} },
    })
    expect(o.weigh(told('cylinder'))).toMatchObject({ title: 'Axis datum' })
    expect(o.weigh(told('cylinder'))!.figure).toContain('⌀ 12.000')
    expect(o.record).toMatchObject({ element: 'cylinder' })
    expect(o.weigh(told('plane'))!.figure).toContain('flat over 400 mm²')
  })
  it('ways to make a datum suit whatever order datums were picked in', () => {
    const room = roomWith(built())
    const [low, front, bore] = ['low', 'front', 'bore'].map((id) => room.job.byId.get(id)!)
    const way = (...takes: string[]) => ({ title: '', takes, asks: [], turns_round: false })
    expect(suits(way('plane', 'axis'), [bore, low])).toBe(true)
    expect(suits(way('plane', 'axis'), [front, low])).toBe(false)
    expect(suits(way('plane', 'plane'), [low])).toBe(false)
    expect(suits(way('axis', 'middle'), [bore, low])).toBe(false)
  })
  it('two datums are measured', () => {
    const at = (id: string): Under => ({ what: 'datum', id, shown: [0, 0, 0] })
    const room = roomWith(built())
    const [o] = kindOf('measure')!.offers([at('low'), at('bore')], room)
    expect(o.record).toMatchObject({ kind: 'measure', first: 'low', second: 'bore' })
    expect(kindOf('measure')!.offers([at('low')], room)).toEqual([])
  })
  it('two datums are a frame, planes before axes', () => {
    const [o] = offers([
      { what: 'datum', id: 'bore', shown: [0, 0, 0] },
      { what: 'datum', id: 'low', shown: [0, 0, 0] },
    ])
    expect(o.record).toMatchObject({ kind: 'frame', first: 'low', second: null, origin: 'bore' })
  })
  it('an edge is a fillet, a loop an extrusion or a cut', () => {
    const edge: Under = {
      what: 'edge',
      body: 'round',
      name: ['a', 'b', 0],
      place: [0, 0, 0],
      shown: [0, 0, 0],
    }
    expect(offers([edge]).map((o) => o.title)).toEqual(['Fillet'])
    const loop: Under = { what: 'loop', sketch: 'outline', entity: 'e1', shown: [0, 0, 0], points: [] }
    expect(offers([loop]).map((o) => o.title)).toEqual(['Extrude', 'Cut through'])
    expect(offers([edge, loop])).toEqual([])
  })

  describe('zones', () => {
    const onZone = (zone: number, place: [number, number, number]): Under => ({
      ...(onScan(place) as Extract<Under, { what: 'scan' }>),
      zone,
    })
    const zones = () => {
      const all = held('zones', { scan: 'scan', noise: null, smallest: null, by_hand: [] })
      look(null)
      const click = (zone: number, place: [number, number, number]) =>
        all.kind.slots.zone.put!(onZone(zone, place), all.record, all.room)
      return { ...all, click, hand: all.record.by_hand as unknown as Record<string, unknown>[] }
    }

    it('a click looks at a zone; off every zone it does nothing', () => {
      const { click } = zones()
      click(4, [1, 2, 3])
      expect([looked.zone, looked.place]).toEqual([4, [1, 2, 3]])
      click(-1, [9, 9, 9])
      expect(looked.zone).toBe(4)
    })

    it('a neighbour joins by the next click, kept as two places', () => {
      const { click, record, room } = zones()
      click(4, [1, 2, 3])
      next('join')
      click(7, [4, 5, 6])
      expect(record.by_hand).toEqual([byHand({ do: 'join', place: [1, 2, 3], to: [4, 5, 6] })])
      expect(looked.zone).toBeNull()
      expect(room.hand.again).toHaveBeenCalledOnce()
    })

    it('a cut takes two clicks on the same zone, and says which it waits for', () => {
      const { click, kind, record } = zones()
      const says = () => (kind.slots.zone.says as () => string)()
      click(2, [0, 0, 0])
      next('split')
      expect(says()).toBe('Click where the cut begins')
      click(5, [8, 8, 8])
      expect(says()).toBe('Click where the cut begins')
      click(2, [1, 0, 0])
      expect(says()).toBe('Click where the cut ends')
      click(2, [1, 9, 0])
      expect(record.by_hand).toEqual([byHand({ do: 'split', place: [1, 0, 0], to: [1, 9, 0] })])
    })

    it('a side is given away by two clicks on the zone and one on the neighbour that gets it', () => {
      const { click, kind, record } = zones()
      const says = () => (kind.slots.zone.says as () => string)()
      click(2, [0, 0, 0])
      next('give')
      click(2, [1, 0, 0])
      click(2, [1, 9, 0])
      expect(says()).toBe('Click the neighbour that gets it')
      click(2, [3, 3, 3])
      expect(record.by_hand).toEqual([])
      click(6, [5, 5, 5])
      const cut = { place: [1, 0, 0] as [number, number, number], to: [1, 9, 0] as [number, number, number] }
      expect(record.by_hand).toEqual([byHand({ do: 'give', ...cut, also: [5, 5, 5] })])
    })

    it('asked again, joining or cutting is given up', () => {
      zones()
      look(3, [0, 0, 0])
      next('split')
      next('join')
      expect(looked.next).toBe('join')
      next('join')
      expect(looked.next).toBe('')
    })
  })
})
