// @vitest-environment jsdom
/** The paper shows the trace of the drawing in hand, whatever answers come late. */
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { nextTick } from 'vue'
import { KINDS } from '../src/kinds/all'
import type { Schemas } from '../src/api/types'
import { useSketch } from '../src/paper/sketch'
import { useHand } from '../src/state/hand'
import { built, roomWith } from './fakes'

type Drawing = Schemas['SketchStep']
const plane = { origin: [0, 0, 0], normal: [0, 0, 1], u: [1, 0, 0] }
const traceOf = (name: string) => ({ plane, traces: [[{ points: [[0, 0]], closed: true, name }]] })

/** Questions for a trace, answered when the test says so; and for a change, with what was sent. */
let asked: ((answer: unknown) => void)[] = []
let wanted: Record<string, unknown>[] = []
let places: ((answer: unknown) => void)[] = []
let changes: { sent: { sketch: { strokes: { id: string }[] } }; answer: (to: unknown) => void }[] = []
beforeEach(() => {
  asked = []
  changes = []
  places = []
  wanted = []
  vi.stubGlobal('fetch', (url: string, request?: { body?: string }) => {
    const said = (answer: unknown) => new Response(JSON.stringify(answer), { status: 200 })
    if (String(url).includes('/sketch/change'))
      return new Promise((done) =>
        changes.push({ sent: JSON.parse(request!.body!), answer: (to) => done(said(to)) }),
      )
    if (String(url).includes('/sketch/beginning'))
      return new Promise((done) => places.push((answer) => done(said(answer))))
    if (!String(url).includes('/sketch/trace')) return Promise.resolve(said({}))
    wanted.push(JSON.parse(request!.body!).sketch)
    return new Promise((done) => asked.push((answer) => done(said(answer))))
  })
})
afterEach(() => void vi.unstubAllGlobals())
const soon = async () => {
  for (let k = 0; k < 12; k++) await Promise.resolve()
  await new Promise((done) => setTimeout(done, 5))
  await nextTick()
}

it('a trace that was asked for another drawing is not put on the paper', async () => {
  roomWith(built())
  const hand = useHand()
  const paper = useSketch()
  const tools = KINDS.find((k) => k.kind === 'sketch')!.tools!
  hand.start(tools[0] as Parameters<typeof hand.start>[0])
  await soon()
  expect(asked.length).toBe(1)
  hand.drop()
  hand.start(tools.find((t) => t.id === 'sketch seen') as Parameters<typeof hand.start>[0])
  await soon()
  asked[0](traceOf('of the first'))
  await soon()
  expect(paper.trace).toBe(null)
  expect(asked.length).toBe(2)
  asked[1](traceOf('its own'))
  await soon()
  expect(JSON.stringify(paper.trace)).toContain('its own')
})

it('of two changes asked for in one breath neither is lost, nor what is undone or measured meanwhile', async () => {
  roomWith(built())
  const hand = useHand()
  const paper = useSketch()
  hand.start(KINDS.find((k) => k.kind === 'sketch')!.tools![0] as Parameters<typeof hand.start>[0])
  await soon()
  const line = (id: string) => ({ id, kind: 'line' })
  const drawn = (...ids: string[]) => ({
    strokes: ids.map(line),
    relations: [],
    sizes: [],
    fresh: [],
    unsaid: [],
  })
  const ids = () => paper.mine!.strokes.map((x) => x.id)
  paper.make({ do: 'automatic' })
  paper.make({ do: 'automatic' })
  paper.measure({ kind: 'length', of: ['b'], unit: 'mm' })
  await soon()
  expect(paper.drawing).toBe(true)
  expect(hand.kind!.ready(hand.record!, null)).toBe('Wait for the change')
  expect(changes.length).toBe(1)
  changes[0].answer(drawn('a'))
  await soon()
  expect(changes.length).toBe(2)
  expect(changes[1].sent.sketch.strokes.map((x) => x.id)).toEqual(['a'])
  changes[1].answer(drawn('a', 'b'))
  await soon()
  expect(ids()).toEqual(['a', 'b'])
  expect(paper.mine!.sizes.length).toBe(1)
  expect(paper.drawing).toBe(false)
  paper.make({ do: 'automatic' })
  expect(paper.step(false)).toBe(true)
  await soon()
  changes[2].answer(drawn('a', 'b', 'c'))
  await soon()
  expect(ids()).toEqual(['a', 'b'])
  expect(paper.mine!.sizes.length).toBe(1)
})

it('all that says where a paper lies and what is traced is asked with it', async () => {
  roomWith(built())
  const hand = useHand()
  const paper = useSketch()
  const across = KINDS.find((k) => k.kind === 'sketch')!.tools!.find((t) => t.id === 'sketch')
  hand.start(across as Parameters<typeof hand.start>[0])
  await soon()
  const answered = async () => {
    for (let k = 0; k < asked.length; k++) {
      asked[k](traceOf('some'))
      await soon()
    }
  }
  await answered()
  const drawn = ['name', 'kind', 'strokes', 'relations', 'sizes']
  const told = Object.keys(paper.mine!).filter((k) => !drawn.includes(k))
  expect(Object.keys(wanted[0]).sort()).toEqual(told.sort())
  paper.mine!.share = 0.7
  await soon()
  expect(wanted.at(-1)!.share).toBe(0.7)
  await answered()
  paper.mine!.only.push({ by: 'everything' } as Drawing['only'][number])
  await soon()
  expect(wanted.at(-1)!.only).toEqual([{ by: 'everything' }])
})

it('a height that somebody has in hand is not moved by where the paper would begin', async () => {
  roomWith(built())
  const hand = useHand()
  const paper = useSketch()
  const cut = KINDS.find((k) => k.kind === 'sketch')!.tools!.find((t) => t.id === 'sketch')!
  hand.start(cut as Parameters<typeof hand.start>[0])
  await soon()
  paper.taken = true // the field has the cursor, nothing is typed yet
  places[0]({ height: 1.92, says: 'Begun beside a face.' })
  await soon()
  expect((hand.record as unknown as Drawing).height).toBe(0)
  // Begun anew, with nobody at it, it goes where there is something to draw on.
  hand.drop()
  hand.start(cut as Parameters<typeof hand.start>[0])
  await soon()
  places[1]({ height: 1.92, says: '' })
  await soon()
  expect((hand.record as unknown as Drawing).height).toBe(1.92)
})
