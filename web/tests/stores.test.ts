// @vitest-environment jsdom
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { JobView } from '../src/api/types'
import { built, roomWith, stone } from './fakes'

/** A server whose answers are given by path; it notes what it was asked. */
class FakeServer {
  asked: { method: string; path: string; body: unknown; revision: string | null }[] = []
  answers = new Map<string, unknown[]>()
  on(method: string, path: string, ...answers: unknown[]) {
    this.answers.set(`${method} ${path}`, answers)
    return this
  }
  fetch = async (url: string, init: RequestInit = {}) => {
    const path = url.replace(/^\/api/, '')
    const method = init.method ?? 'GET'
    const headers = (init.headers ?? {}) as Record<string, string>
    const body = init.body ? JSON.parse(String(init.body)) : undefined
    this.asked.push({ method, path, body, revision: headers['If-Match'] ?? null })
    const left = this.answers.get(`${method} ${path}`) ?? []
    const answer = (left.length > 1 ? left.shift() : left[0]) as Record<string, unknown> | undefined
    const status = typeof answer?.status === 'number' ? answer.status : answer ? 200 : 404
    const said = answer && 'body' in answer ? answer.body : answer
    return new Response(JSON.stringify(said ?? { code: 'http', message: 'Nothing there.' }), { status })
  }
}

let server: FakeServer
beforeEach(() => {
  vi.useFakeTimers({ shouldAdvanceTime: true })
  server = new FakeServer()
  vi.stubGlobal('fetch', server.fetch)
})

const job = (revision: number, more: Partial<JobView> = {}): JobView => ({
  id: 1,
  name: 'Job',
  revision,
  stones: built(),
  values: [],
  undo: null,
  redo: null,
  tasks: [],
  proofs: [],
  demo: '',
  ...more,
})
const done = (result: unknown) => ({ study: 1, done: true, progress: 1, message: '', result })
const said = (more: Record<string, unknown> = {}) => ({
  status: 'sound',
  says: '',
  key: 'k',
  values: [],
  summary: { facets: 9 },
  ...more,
})

describe('the job', () => {
  it('sends the revision it shows with every change, and shows the job that is answered', async () => {
    const room = roomWith(built())
    server.on('POST', '/jobs/1/stones/low/switch', job(2)).on('POST', '/jobs/1/undo', job(3))
    expect(await room.job.act('POST', '/stones/low/switch')).toBe(true)
    expect(await room.job.act('POST', '/undo')).toBe(true)
    expect(server.asked.map((a) => a.revision)).toEqual(['"1"', '"2"'])
    expect(room.job.job?.revision).toBe(3)
  })

  it('has laid anew what stays unlaid with nobody at work on it', async () => {
    const left = built().map((s, k, all) => (k === all.length - 1 ? { ...s, status: 'pending' as const } : s))
    const room = roomWith(left)
    const still = { revision: 1, working: false, proofs: 0 }
    server.on('GET', '/jobs/1', job(1, { stones: left })).on('GET', '/jobs/1/stamp', still)
    server.on('POST', '/jobs/1/tasks/retry', job(1))
    await room.job.refresh()
    await vi.advanceTimersByTimeAsync(3 * 1200)
    expect(server.asked.some((a) => a.path.endsWith('/retry'))).toBe(false)
    await vi.advanceTimersByTimeAsync(5 * 1200)
    expect(server.asked.filter((a) => a.path.endsWith('/retry')).length).toBe(1)
  })

  it('shows the newer job where a change is refused, and says why', async () => {
    const room = roomWith(built())
    const refused = { code: 'conflict', message: 'The job was changed meanwhile.', job: job(5) }
    server.on('POST', '/jobs/1/values', { status: 409, body: refused })
    expect(await room.job.choose('base.end', 12)).toBe(false)
    expect(room.job.error).toBe('The job was changed meanwhile.')
    expect(room.job.job?.revision).toBe(5)
  })

  it('looks again only where the stamp says that others changed it', async () => {
    const room = roomWith(built())
    const stamp = { revision: 1, working: false, proofs: 0 }
    server.on('GET', '/jobs/1', job(1), job(2)).on('GET', '/jobs/1/stamp', stamp, { ...stamp, revision: 2 })
    await room.job.open(1)
    await vi.advanceTimersByTimeAsync(1600)
    expect(server.asked.filter((a) => a.path === '/jobs/1')).toHaveLength(1)
    await vi.advanceTimersByTimeAsync(1600)
    expect(server.asked.filter((a) => a.path === '/jobs/1')).toHaveLength(2)
    expect(room.job.job?.revision).toBe(2)
    room.job.close()
  })

  it('knows the tip of each chain of scans, and what was merged', () => {
    const room = roomWith([
      stone('a', 'scan', 'scan'),
      stone('a2', 'smooth', 'scan', { inputs: ['a'], betters: 'a' }),
      stone('b', 'scan', 'scan'),
      stone('p', 'match', 'placement', { inputs: ['a2', 'b'] }),
      stone('m', 'merge', 'scan', { inputs: ['p'] }),
      stone('m2', 'holes', 'scan', { inputs: ['m'], betters: 'm' }),
    ])
    expect(room.job.root('a2')).toBe('a')
    expect(room.job.captures).toEqual(['a', 'b'])
    expect(room.job.joinScans.map((s) => s.id)).toEqual(['a2', 'b'])
    expect(room.job.tips.map((s) => s.id)).toEqual(['m2'])
    expect(room.job.merged?.id).toBe('m')
  })

  it('gives names no stone has yet', () => {
    const room = roomWith([stone('Plane', 'datum', 'datum'), stone('Plane 2', 'datum', 'datum')])
    expect(room.job.freeName('Axis')).toBe('Axis')
    expect(room.job.freeName('Plane')).toBe('Plane 3')
  })

  it('shows the job as it was where the level is drawn left', () => {
    const room = roomWith(built())
    room.job.level = 3
    expect(room.job.stones.map((s) => s.id)).toEqual(['scan', 'low', 'front'])
    expect(room.job.frame).toBeNull()
    expect(room.job.allStones).toHaveLength(8)
  })
})

describe('the hand', () => {
  const datum = { name: 'D', scan: 'scan', element: 'plane', pick: { place: [0, 0, 0], rule: 'same facing' } }

  it('tries what is in hand, and only the newest answer counts', async () => {
    const room = roomWith(built())
    server.on(
      'POST',
      '/jobs/1/preview',
      done(said({ summary: { facets: 1 } })),
      done(said({ summary: { facets: 2 } })),
    )
    room.hand.takeUp('datum', datum)
    room.hand.tryIt(0)
    await vi.advanceTimersByTimeAsync(20)
    room.hand.tryIt(0)
    await vi.advanceTimersByTimeAsync(20)
    expect(room.hand.told).toEqual({ facets: 2 })
    expect(room.hand.missing).toBeNull()
  })

  it('asks again where an older question stopped it, and says nothing of that', async () => {
    const room = roomWith(built())
    const stopped = { status: 499, body: { code: 'cancelled', message: 'Stopped as asked.' } }
    server.on('POST', '/jobs/1/preview', stopped, done(said({ summary: { facets: 3 } })))
    room.hand.takeUp('datum', datum)
    room.hand.tryIt(0)
    await vi.advanceTimersByTimeAsync(200)
    expect(room.hand.error).toBe('')
    expect(room.hand.told).toEqual({ facets: 3 })
    expect(server.asked.filter((a) => a.path === '/jobs/1/preview')).toHaveLength(2)
  })

  it('says why where it fails, and has no result to show', async () => {
    const room = roomWith(built())
    server.on('POST', '/jobs/1/preview', done(said({ status: 'failed', says: 'The scan is not there.' })))
    room.hand.takeUp('datum', datum)
    room.hand.tryIt(0)
    await vi.advanceTimersByTimeAsync(20)
    expect(room.hand.error).toBe('The scan is not there.')
    expect([room.hand.told, room.hand.result]).toEqual([null, null])
  })

  it('lays what is in hand and puts it away; a refusal keeps it', async () => {
    const room = roomWith(built())
    server.on(
      'POST',
      '/jobs/1/stones',
      { status: 422, body: { code: 'bad', message: 'Too far away.' } },
      job(2),
    )
    room.hand.takeUp('datum', datum)
    expect(await room.hand.lay()).toBe(false)
    expect(room.hand.error).toBe('Too far away.')
    expect(room.hand.held?.kind).toBe('datum')
    expect(await room.hand.lay()).toBe(true)
    expect(room.hand.held).toBeNull()
    expect(server.asked.at(-1)?.body).toMatchObject({ step: { kind: 'datum', name: 'D' } })
  })

  it('does not lay what lacks something, and never sends what is the hand’s own', async () => {
    const room = roomWith(built())
    server.on('POST', '/jobs/1/stones', job(2))
    room.hand.takeUp('fillet', {
      name: 'F',
      scan: 'scan',
      frame: 'axes',
      body: 'base',
      edges: [],
      alike: false,
    })
    expect(await room.hand.lay()).toBe(false)
    expect(server.asked).toEqual([])
    room.hand.record!.edges = [['a', 'b', 0]]
    expect(await room.hand.lay()).toBe(true)
    expect(server.asked[0].body).not.toHaveProperty('step.alike')
  })

  it('takes a laid stone back with its record, and offers what could stand where something was lost', async () => {
    const room = roomWith(built())
    const record = { id: 'axes', kind: 'frame', name: 'axes', first: 'gone', second: 'front', origin: null }
    const lost = [{ path: ['first'], gives: ['datum'], candidates: ['low'] }]
    server.on('GET', '/jobs/1/stones/axes', { ...built()[4], record, summary: {}, lost })
    server.on('POST', '/jobs/1/preview', done(said()))
    await room.hand.takeBack(room.job.byId.get('axes')!)
    expect(room.hand.held).toMatchObject({ kind: 'frame', editing: true })
    expect(room.shown.stage).toBe('Frame')
    room.hand.replace(room.hand.lost[0], 'low')
    expect(room.hand.record).toMatchObject({ first: 'low', second: 'front' })
    expect(room.hand.lost).toEqual([])
    room.hand.stopTrying()
  })

  it('gives back nothing of what was in hand once it is dropped', () => {
    const room = roomWith(built())
    room.hand.takeUp('datum', datum)
    room.hand.slot = 'place'
    room.hand.drop()
    expect([room.hand.held, room.hand.slot, room.hand.preview, room.hand.lit]).toEqual([
      null,
      null,
      null,
      null,
    ])
    expect(room.hand.missing).toBe('Nothing is in hand.')
  })
})
