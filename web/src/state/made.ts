/**
 * What can be made of this: things picked with nothing in hand, and the results that make sense, worked out,
 * best first.
 */
import { defineStore } from 'pinia'
import { ref, shallowRef, watch } from 'vue'
import { numbers, study } from '../api/client'
import type { Preview } from '../api/types'
import type { Offer } from '../kinds/kind'
import { allKinds } from '../kinds/registry'
import { sameThing, type Under } from '../view3d/picking'
import { useHand } from './hand'
import { useJob } from './job'
import { useRoom } from './room'
import { useShown } from './shown'

export type Weighed = Offer & { figure: string; cost: number; because: string }

const because = (o: Offer, told: Preview | null) => (typeof o.why === 'string' ? o.why : o.why(told))

/** What is picked beside what was picked before, where it goes with it. */
const ADDED: Under['what'][] = ['datum', 'edge', 'loop', 'face']
const ON_MODEL: Under['what'][] = ['edge', 'face']
const alike = (a: Under['what'], b: Under['what']) =>
  a !== 'scan' && (a === b || (ON_MODEL.includes(a) && ON_MODEL.includes(b)))

export const useMade = defineStore('made', () => {
  const j = useJob()
  const hand = useHand()
  const shown = useShown()
  const given = shallowRef<Under[]>([])
  const offers = shallowRef<Weighed[]>([])
  const weighing = ref(false)
  let asked: AbortController | null = null

  /** Pick something, or let it go again. A place on the scan takes the place of the one before. */
  function give(at: Under, more: boolean) {
    const known = given.value.findIndex((g) => sameThing(g, at))
    if (known >= 0) given.value = given.value.filter((_, i) => i !== known)
    else if (more || ADDED.includes(at.what))
      given.value = [...given.value.filter((g) => alike(g.what, at.what)), at]
    else given.value = [at]
    weigh()
  }
  function clear() {
    asked?.abort()
    given.value = []
    offers.value = []
    weighing.value = false
    if (!hand.held) hand.lit = null
  }
  async function weigh() {
    asked?.abort()
    const mine = (asked = new AbortController())
    offers.value = []
    const room = useRoom()
    light(mine)
    const wanted = given.value.length ? allKinds().flatMap((k) => k.offers(given.value, room)) : []
    weighing.value = wanted.length > 0
    try {
      for (const o of wanted) {
        const said = o.known ? { ...o.known, because: because(o, null) } : await weighed(o, mine.signal)
        if (mine !== asked) return
        if (said) offers.value = [...offers.value, { ...o, ...said }].sort((a, b) => a.cost - b.cost)
      }
    } catch (e) {
      if ((e as Error).name !== 'AbortError') j.error = (e as Error).message
    } finally {
      if (mine === asked) weighing.value = false
    }
  }
  async function weighed(o: Offer, signal: AbortSignal) {
    const got = await study<Preview>(j.job!.id, '/preview', { step: o.record }, () => {}, signal)
    const said = got.status === 'failed' || got.status === 'waiting' ? null : o.weigh(got)
    return said && { ...said, because: because(o, got) }
  }
  /** Light the face of the scan that was picked. */
  async function light(mine: AbortController) {
    const at = given.value.find((g) => g.what === 'scan')
    if (!at || at.what !== 'scan') {
      if (!hand.held) hand.lit = null
      return
    }
    const pick = { place: at.place, normal: at.normal, rule: 'same facing', angle_deg: null }
    try {
      const got = await j.ask<{ shown: string }>('/pick', { scan: at.id, pick, element: null }, mine.signal)
      if (mine === asked && !hand.held) hand.lit = { facets: numbers(got.shown), tone: 'picked' }
    } catch {
      // what can be made of it says why not
    }
  }
  /** Put an offer in hand, the first where none is named. */
  function take(offer: Weighed | undefined = offers.value[0]) {
    if (!offer) return
    const { kind, ...fields } = offer.record
    clear()
    hand.takeUp(kind, fields)
    hand.slot = offer.slot ?? null
    shown.stage = hand.kind?.stage ?? shown.stage
    hand.tryIt(0)
  }
  watch([() => j.job?.id, () => !!hand.held, () => shown.stage], () => clear())
  return { given, offers, weighing, give, clear, take }
})
