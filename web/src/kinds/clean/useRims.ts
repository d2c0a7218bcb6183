/** The open rims of the scan in hand, which of them are picked, and a stretch of one being dragged along. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { RimView, Schemas, Vec3 } from '../../api/types'
import { useHand } from '../../state/hand'
import { useJob } from '../../state/job'
import type { LinePlan } from '../../view3d/plan'
import type { Under } from '../../view3d/picking'

type Holes = Schemas['HolesStep']

const SAME = 1e-3 // mm: places of one rim
const same = (a: number[], b: number[]) => Math.hypot(...a.map((v, k) => v - b[k])) < SAME

export const useRims = defineStore('rims', () => {
  const j = useJob()
  const hand = useHand()
  const rims = shallowRef<RimView[] | null>(null)
  /** The rim the list has the pointer on. */
  const listed = ref(-1)
  /** What a drag along a rim has passed over. */
  const stretch = shallowRef<Vec3[]>([])
  let of = ''

  async function load(scan: string) {
    of = scan
    rims.value = null
    stretch.value = []
    try {
      const got = await j.ask<RimView[]>('/rims', { scan })
      if (of === scan) rims.value = got
    } catch (e) {
      hand.error = (e as Error).message
    }
  }
  function picked(r: Holes): Set<number> {
    const all = (rims.value ?? []).map((_, i) => i)
    if (r.which === 'all') return new Set(all)
    if (r.which === 'shortest') return new Set(all.slice(0, r.count))
    if (r.which === 'all but the longest') return new Set(all.slice(0, -1))
    return new Set(all.filter((i) => r.places.some((p) => same(p, rims.value![i].place))))
  }
  function pick(i: number, r: Holes) {
    const had = picked(r)
    const places = [...had].filter((k) => k !== i).map((k) => rims.value![k].place as Vec3)
    if (!had.has(i)) places.push(rims.value![i].place as Vec3)
    Object.assign(r, { which: 'picked', places })
    changed(r)
  }
  function changed(r: Holes) {
    hand.preview = null
    hand.stopTrying()
    if (picked(r).size) hand.tryIt(350)
  }
  const over = computed(() => (hand.over?.what === 'line' ? hand.over.index : listed.value))
  function asLines(r: Holes, at: Under | null): LinePlan[] {
    const lit = at?.what === 'line' ? at.index : listed.value
    const chosen = picked(r)
    return (rims.value ?? []).map((x, i) => ({
      points: x.points,
      closed: true,
      colour: i === lit ? 'brick' : chosen.has(i) ? 'saffron' : 'ink',
      tag: String(i),
    }))
  }
  const plain = computed<LinePlan[]>(() =>
    (rims.value ?? []).map((x, i) => ({ points: x.points, closed: true, colour: 'ink', tag: String(i) })),
  )

  /**
   * The places along a rim that a drag has passed over, from where it began; the way round is the way it
   * went.
   */
  function along(path: Under[]): Vec3[] {
    const on = path.filter((p) => p.what === 'line')
    const first = on[0]
    const rim = first && rims.value?.[first.index]
    if (!rim) return []
    const n = rim.points.length
    let steps = 0
    let at = first.at
    for (const p of on) {
      if (p.index !== first.index) continue
      const by = (((p.at - at + n / 2) % n) + n) % n
      steps += by - n / 2
      at = p.at
    }
    const whole = Math.min(Math.abs(Math.round(steps)), n - 1)
    const way = Math.sign(steps) || 1
    return Array.from(
      { length: whole + 1 },
      (_, k) => rim.points[(((first.at + way * k) % n) + n) % n] as Vec3,
    )
  }
  return { rims, listed, over, stretch, load, picked, pick, changed, asLines, plain, along }
})
