// @vitest-environment jsdom
import { describe, expect, it, vi } from 'vitest'
import { nextTick } from 'vue'
import { partWords, useProving } from '../src/check/proving'
import { useDetails } from '../src/state/details'
import { across, isJoining, planOf } from '../src/view3d/plan'
import { COLOURS, STONES, times } from '../src/view3d/stone'
import { built, roomWith, stone } from './fakes'

const finished = () => [
  ...built(),
  stone('map', 'check', 'deviation', {
    inputs: ['scan', 'round', 'axes'],
    told: { rms: 0.05, tolerance: 0.1 },
  }),
]

describe('what the view draws', () => {
  it('is the scan and the model where both are worked on', () => {
    const room = roomWith(finished())
    room.shown.reset()
    expect(room.shown.stage).toBe('Build')
    const plan = planOf(room)
    expect(plan.scan).toMatchObject({ id: 'scan', key: 'key of scan', colour: STONES[0] })
    expect(plan.body).toEqual({ id: 'round', key: 'key of round' })
    expect([plan.scanOn, plan.bodyOn]).toEqual([true, true])
  })

  it.each(['Scans', 'Clean', 'Join', 'Frame', 'Zones'] as const)(
    'is the scan in %s, the model when it is asked for',
    async (stage) => {
      const room = roomWith(finished())
      room.shown.reset()
      await nextTick()
      room.shown.show.scan = false
      room.shown.stage = stage
      await nextTick()
      expect(planOf(room).scanOn).toBe(true)
      expect(planOf(room).bodyOn).toBe(false)
      room.shown.model = true
      expect(planOf(room).bodyOn).toBe(true)
      room.shown.stage = 'Build'
      await nextTick()
      expect(room.shown.model).toBe(true) // as it was in Build
    },
  )

  it('is the scan alone under the tide, coloured by the check there is', async () => {
    const room = roomWith(finished())
    room.shown.reset()
    room.shown.stage = 'Check'
    room.shown.show.tide = true
    const told = {
      tolerance: 0.2,
      low: 0.1,
      histogram: { counts: [], edges: [-1, 1] },
      matrix: [],
      on_model: true,
    }
    const fetched = async () => new Response(JSON.stringify({ key: 'key of map', summary: told }))
    vi.stubGlobal('fetch', fetched)
    planOf(room) // what the check tells is asked for
    await vi.waitFor(() => expect(useProving().told).toBeTruthy())
    await nextTick()
    const plan = planOf(room)
    const band = { high: 0.2, low: 0.1, reach: 1 }
    expect(plan.deviation).toMatchObject({ key: 'key of map', what: 'tide', scan: 'key of scan', ...band })
    expect([plan.scanOn, plan.bodyOn]).toEqual([false, false])
    useProving().on = 'model'
    expect(planOf(room).deviation).toMatchObject({ key: 'key of map', what: 'faith', scan: null })
    vi.unstubAllGlobals()
  })

  it('is what was hidden or shown alone in the yard', () => {
    const room = roomWith(finished())
    room.shown.reset()
    room.shown.toggle('scan')
    expect(planOf(room).scanOn).toBe(false)
    room.shown.toggle('scan')
    room.shown.alone = 'round'
    expect([planOf(room).scanOn, planOf(room).bodyOn]).toEqual([false, true])
  })

  it('lights the datums of the frame that is in hand, all of them while one is asked for', () => {
    const room = roomWith(finished())
    room.hand.takeUp('frame', { name: 'F', first: 'low', second: null, origin: 'bore' })
    expect(planOf(room).datums.sort()).toEqual(['bore', 'low'])
    room.hand.slot = 'second'
    expect(planOf(room).datums.sort()).toEqual(['bore', 'front', 'low'])
    room.hand.stopTrying()
  })

  it('shows a cleaning step as it would be, and before it where that is asked', () => {
    const room = roomWith([stone('scan', 'scan', 'scan')])
    room.hand.takeUp('smooth', { name: 'S', scan: 'scan', strength: 0.4, bound: null })
    room.hand.stopTrying()
    room.hand.preview = {
      status: 'sound',
      says: '',
      key: 'smoothed',
      values: [],
      summary: { moved_max: 0.1 },
    }
    expect(planOf(room).scan?.key).toBe('smoothed')
    room.shown.show.moved = true
    expect(planOf(room).tide).toMatchObject({ key: 'smoothed', name: 'moved' })
    room.shown.show.after = false
    expect(planOf(room).scan?.key).toBe('key of scan')
    expect(planOf(room).tide).toBeNull()
  })

  it('shows what would go in brick on the scan as it is', () => {
    const room = roomWith([stone('scan', 'scan', 'scan')])
    room.hand.takeUp('background', { name: 'B', scan: 'scan', way: 'slab', marks: [] })
    room.hand.stopTrying()
    const plane = { point: [0, 0, 0], normal: [0, 0, 1] }
    room.hand.preview = { status: 'sound', says: '', key: 'less', values: [], summary: { goes: 9, plane } }
    const plan = planOf(room)
    expect(plan.scan?.key).toBe('key of scan')
    expect(plan.litBy).toEqual({ key: 'less', name: 'goes', tone: 'goes' })
    expect(plan.planes).toHaveLength(1)
  })
})

describe('scans to be joined', () => {
  const scans = () => ['a', 'b', 'c'].map((id) => stone(id, 'scan', 'scan'))

  it('stand apart until they have a place, none over another', () => {
    const room = roomWith(scans())
    room.shown.stage = 'Join'
    expect(isJoining(room)).toBe(true)
    const plan = planOf(room)
    const all = [plan.scan!, ...plan.beside]
    expect(all.map((s) => s.id)).toEqual(['a', 'b', 'c'])
    expect(new Set(all.map((s) => s.colour)).size).toBe(3)
    const middles = all.map((s) => [20, 15, 10].map((v, k) => v + s.matrix![k][3]))
    const gap = (p: number[], q: number[]) => Math.hypot(...p.map((v, k) => v - q[k]))
    for (const [i, p] of middles.entries())
      for (const q of middles.slice(i + 1))
        expect(gap(p, q)).toBeGreaterThan(0.8 * across(room.job.byId.get('a')))
  })

  it('lie where a placement has them once it is told', () => {
    const moved = [
      [1, 0, 0, 7],
      [0, 1, 0, 0],
      [0, 0, 1, 0],
      [0, 0, 0, 1],
    ]
    const still = moved.map((r) => [...r.slice(0, 3), r[3] === 1 ? 1 : 0])
    const stones = [...scans(), stone('p', 'match', 'placement', { inputs: ['a', 'b', 'c'] })]
    const room = roomWith(stones)
    const told = { motions: { a: still, b: moved }, links: [], rms: null, aside: {}, moved: {}, refused: [] }
    const details = useDetails()
    details.toldOf = (() => told) as typeof details.toldOf
    room.shown.stage = 'Join'
    const plan = planOf(room)
    const at = new Map([plan.scan!, ...plan.beside].map((s) => [s.id, s.matrix]))
    expect(at.get('b')).toEqual(moved)
    expect(at.get('c')![0][3]).not.toBe(7) // it has no place: beside the others
  })
})

describe('matrices and colours', () => {
  it('multiply as motions do', () => {
    const turn = [
      [0, -1, 0, 0],
      [1, 0, 0, 0],
      [0, 0, 1, 0],
      [0, 0, 0, 1],
    ]
    const shift = [
      [1, 0, 0, 5],
      [0, 1, 0, 0],
      [0, 0, 1, 0],
      [0, 0, 0, 1],
    ]
    expect(times(turn, shift).map((r) => r[3])).toEqual([0, 5, 0, 1])
    expect(times(null, shift)).toEqual(shift)
  })
  it('are the six stones, none twice', () => {
    expect(new Set(STONES).size).toBe(6)
    expect(COLOURS.saffron).toBe(0xe79a12)
  })
})

it('faces are called by what they are and what made them', () => {
  expect(partWords('Base/top')).toBe('top, Base')
  expect(partWords('Foot rounding/Base/top^Boss/side e2')).toBe('top – side e2, Foot rounding')
  expect(partWords('Foot rounding/Base/top^Boss/side e2^1')).toBe('top – side e2, Foot rounding')
  expect(partWords('Block')).toBe('Block')
})
