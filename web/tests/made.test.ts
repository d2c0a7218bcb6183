// @vitest-environment jsdom
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick } from 'vue'
import { useMade } from '../src/state/made'
import type { Under } from '../src/view3d/picking'
import { built, roomWith } from './fakes'

const face: Under = {
  what: 'scan',
  id: 'scan',
  place: [1, 2, 3],
  normal: [0, 0, 1],
  shown: [1, 2, 3],
  facet: 0,
}
const datum = (id: string): Under => ({ what: 'datum', id, shown: [0, 0, 0] })

/** Answers previews: a place on the scan is read as this, and scatters so much; what was tried is kept. */
function server(element: 'plane' | 'cylinder', scatter = 0.03) {
  const tried: string[] = []
  vi.stubGlobal('fetch', async (url: string, init: RequestInit = {}) => {
    const body = init.body ? JSON.parse(String(init.body)) : {}
    if (url.endsWith('/pick')) return new Response(JSON.stringify({ shown: '', facets: 0 }))
    if (url.endsWith('/kinds')) return new Response('{}')
    const step = body.step as { kind: string; element?: string }
    tried.push(step.element ?? step.kind)
    const summary =
      step.kind === 'datum'
        ? {
            area: 400,
            element,
            scatter,
            says: '⌀ 12.000 ± 0.002',
            parameters: element === 'cylinder' ? { radius: 6 } : {},
          }
        : {
            misses: [],
            open_freedoms: 3,
            open: ['turn about z', 'move along x', 'move along y'],
            says: '90° ± 0.01°',
          }
    // No outline stands about the face, and nothing lies behind it.
    const status = ['flat_outline', 'wall'].includes(step.kind) ? 'failed' : 'sound'
    const result = { status, says: '', key: 'k', values: [], summary }
    return new Response(JSON.stringify({ study: 1, done: true, progress: 1, message: '', result }))
  })
  return tried
}

beforeEach(() => vi.useFakeTimers({ shouldAdvanceTime: true }))
const settle = () => vi.advanceTimersByTimeAsync(50)

describe('what can be made of this', () => {
  it('weighs every offer and puts the best first', async () => {
    roomWith(built())
    const tried = server('cylinder')
    const made = useMade()
    made.give(face, false)
    expect(made.weighing).toBe(true)
    await settle()
    expect(tried).toEqual(['best', 'flat_outline', 'wall'])
    expect(made.offers.map((o) => o.title)).toEqual(['Axis datum'])
    expect(made.offers[0].figure).toContain('⌀ 12.000')
    expect(made.weighing).toBe(false)
  })

  it('takes the first into the hand, with what was picked', async () => {
    const room = roomWith(built())
    server('plane')
    const made = useMade()
    made.give(face, false)
    await settle()
    made.take()
    expect(room.hand.held?.kind).toBe('datum')
    expect(room.hand.record).toMatchObject({ element: 'plane', pick: { place: [1, 2, 3] } })
    expect(room.shown.stage).toBe('Frame')
    expect(made.given).toEqual([])
    room.hand.stopTrying()
  })

  it('gathers datums, lets one go that is clicked again, and forgets them for a face', async () => {
    roomWith(built())
    server('plane')
    const made = useMade()
    made.give(datum('low'), false)
    made.give(datum('front'), false)
    expect(made.given).toHaveLength(2)
    await settle()
    expect(made.offers.map((o) => o.title)).toEqual(['Measure', 'Frame'])
    expect(made.offers[1].record).toMatchObject({ first: 'low', second: 'front' })
    expect(made.offers[1].figure).toContain('open: turn about z')
    made.give(datum('low'), false)
    expect(made.given.map((g) => g.what === 'datum' && g.id)).toEqual(['front'])
    made.give(face, false)
    expect(made.given).toEqual([face])
    await settle()
  })

  it('is cleared when a tool is taken up or another stage is gone to', async () => {
    const room = roomWith(built())
    server('plane')
    const made = useMade()
    made.give(face, false)
    await settle()
    room.shown.stage = 'Check'
    await nextTick()
    expect([made.given, made.offers]).toEqual([[], []])
    made.give(face, false)
    room.hand.takeUp('smooth', { name: 'S', scan: 'scan' })
    await nextTick()
    expect(made.given).toEqual([])
    room.hand.drop()
  })

  it('takes nothing where nothing is offered', () => {
    const room = roomWith(built())
    useMade().take()
    expect(room.hand.held).toBeNull()
  })
})
