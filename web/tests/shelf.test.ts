// @vitest-environment jsdom
/** The shelf's pictures: never a broken one, asked for again until it is drawn. */
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { createApp, nextTick } from 'vue'
import JobPicture from '../src/shelf/JobPicture.vue'

const SRC = '/api/jobs/1/picture.png?r=1'
beforeEach(() => void vi.useFakeTimers())
afterEach(() => void vi.useRealTimers())

function card(src: string | null) {
  const room = document.createElement('div')
  createApp(JobPicture, { src }).mount(room)
  const img = () => room.querySelector('img')!
  const tell = async (what: 'load' | 'error', wait = 0) => {
    img().dispatchEvent(new Event(what))
    await vi.advanceTimersByTimeAsync(wait)
    await nextTick()
  }
  return { img, tell, says: () => room.textContent?.trim(), shown: () => img().style.display !== 'none' }
}

it('asks again for a picture that is not drawn yet', async () => {
  const c = card(SRC)
  expect([c.says(), c.shown()]).toEqual(['Drawing its picture', false])
  await c.tell('error', 1000)
  expect(c.img().getAttribute('src')).toBe(`${SRC}&asked=1`)
  await c.tell('load')
  expect([c.says(), c.shown()]).toEqual(['', true])
})

it('gives up in words', async () => {
  const c = card(SRC)
  for (let k = 0; k < 40; k++) await c.tell('error', 5000)
  expect([c.says(), c.shown()]).toEqual(['No picture could be drawn', false])
})

it('shows nothing where there is nothing to draw', () => {
  expect(card(null).says()).toBe('')
})
