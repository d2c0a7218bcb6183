/**
 * How deviations are looked at: on what, within which band, which parts are lit, two proofs, live while
 * building.
 */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { call } from '../api/client'
import type { ProofView, Schemas, Stone } from '../api/types'
import { useHand } from '../state/hand'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import { useStudy } from '../state/studies'

export type DeviationTold = Schemas['DeviationTold']
export type Pin = Schemas['PinView']
type Comparing = { first: ProofView; second: ProofView; told: Schemas['Compared'] }
export type Live = Schemas['TideView'] & { measured: string; coarse: boolean }

/**
 * What a part is called for people: what it is, then the step that made it; a face along an edge by the two
 * it lies between.
 */
export function partWords(face: string): string {
  const [step, ...rest] = face.split('/')
  if (!rest.length) return face
  const sides = rest.join('/').split('^')
  const what = sides.length > 1 ? sides.slice(0, 2).map((s) => s.split('/').at(-1)) : [rest.join(' ')]
  return `${what.join(' – ')}, ${step}`
}
export const stepOf = (face: string) => face.split('/')[0]

export const useProving = defineStore('proving', () => {
  const j = useJob()
  const shown = useShown()
  const hand = useHand()
  const on = ref<'scan' | 'model'>('scan')
  const high = ref(0.1)
  const low = ref(0.1)
  /** The row that is lit: its words, and the parts it stands for. */
  const lit = shallowRef<{ words: string; parts: string[] } | null>(null)
  const comparing = shallowRef<Comparing | null>(null)
  /** Clicks place notes. */
  const pinning = ref(false)
  const pins = shallowRef<Pin[]>([])

  /** The check that is looked at: the one chosen, else the last. */
  const check = computed<Stone | null>(() => {
    const chosen = shown.chosen ? j.byId.get(shown.chosen) : null
    return chosen?.produces === 'deviation' && chosen.key && j.given('deviation').includes(chosen)
      ? chosen
      : j.check
  })
  /** All that is told of what is looked at: the proof reopened, else the check. */
  const told = computed<DeviationTold | null>(() =>
    shown.proof ? (shown.proof.summary as unknown as DeviationTold) : j.toldOf<DeviationTold>(check.value),
  )
  watch(
    [() => check.value?.key, () => shown.proof?.id, () => told.value?.tolerance, () => told.value?.low],
    () => {
      high.value = told.value?.tolerance ?? 0.1
      low.value = told.value?.low ?? high.value
      lit.value = null
      comparing.value = null
    },
  )
  watch(
    () => shown.stage,
    (stage) => {
      pinning.value = false
      lit.value = null
      // What Check is about is on show.
      if (stage === 'Check' && j.check && !hand.held) shown.show.tide = true
    },
  )

  /** What was measured at the notes, asked for where there are any. */
  async function readPins() {
    if (shown.proof) return void (pins.value = shown.proof.pins)
    const c = check.value
    if (!c || !j.job) return void (pins.value = [])
    const mine = `${c.id} ${c.key}`
    const got = await call<Pin[]>('GET', `/jobs/${j.job.id}/checks/${c.id}/pins`).catch(() => [])
    if (mine === `${check.value?.id} ${check.value?.key}`) pins.value = got
  }
  watch(
    [() => check.value?.id, () => check.value?.key, () => shown.proof?.id, () => j.job?.revision],
    readPins,
  )

  // Live, while building.
  const live = shallowRef<Live | null>(null)
  const study = useStudy<Schemas['TideView']>('/tide')
  const building = computed(() => {
    if (!shown.show.tide || shown.stage !== 'Build' || shown.proof || !j.scan?.key) return null
    const tried = hand.result && hand.told && 'volume' in hand.told ? hand.result : null
    const body = tried ?? j.body?.key
    return body ? { scan: j.scan.key, body, frame: j.frame?.key ?? null } : null
  })
  watch(
    () => JSON.stringify(building.value),
    async () => {
      const asked = building.value
      if (!asked) return study.stop()
      for (const coarse of [true, false]) {
        const got = await study.run({ ...asked, coarse })
        if (!got || JSON.stringify(asked) !== JSON.stringify(building.value)) return
        live.value = { ...got, measured: asked.scan, coarse }
      }
    },
  )
  const liveNow = computed(() => (building.value ? live.value : null))
  /**
   * What is bone in live colours: what the check allows, else what nearly all lie within; full colour at five
   * times that.
   */
  const liveBand = computed(() => {
    const allowed = check.value?.told.tolerance as number | undefined
    const band = allowed ?? Math.max(live.value?.p95 ?? 0, 1e-3 * (live.value?.reach ?? 1))
    return { band, reach: 5 * band }
  })

  async function compare(first: number, second: number) {
    const path = `/jobs/${j.job!.id}/proofs`
    const [a, b, row] = await Promise.all([
      call<ProofView>('GET', `${path}/${first}`),
      call<ProofView>('GET', `${path}/${second}`),
      call<Schemas['Compared']>('GET', `${path}/compared?first=${first}&second=${second}`),
    ])
    shown.proof = a
    comparing.value = null
    await Promise.resolve()
    comparing.value = { first: a, second: b, told: row }
    shown.show.tide = true
  }
  function leave() {
    comparing.value = null
    shown.proof = null
  }

  return {
    on,
    high,
    low,
    lit,
    comparing,
    pinning,
    pins,
    check,
    told,
    live: liveNow,
    liveBand,
    compare,
    leave,
    readPins,
  }
})
