/** Pairs being picked: which scan is brought, and the half of a pair that waits for its other. */
import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import type { Schemas, Vec3 } from '../../api/types'
import { useHand } from '../../state/hand'
import { useJob } from '../../state/job'
import type { PlacementTold } from '../../view3d/plan'

type At = { scan: string; place: Vec3 }
export type Side = 'fixed' | 'moving'
type Record = Schemas['MatchStep']

export const usePairing = defineStore('pairing', () => {
  const j = useJob()
  const hand = useHand()
  const half = ref<{ fixed: At | null; moving: At | null }>({ fixed: null, moving: null })
  const chosen = ref<string | null>(null)
  const linked = ref(false)
  const record = computed(() =>
    hand.record && 'pairs' in hand.record ? (hand.record as unknown as Record) : null,
  )
  const laid = computed(() => {
    const under = record.value?.placement
    return under ? (j.toldOf<PlacementTold>(j.byId.get(under))?.motions ?? {}) : {}
  })
  const said = computed(() => (hand.told as unknown as PlacementTold | null)?.motions ?? {})
  const motions = computed(() => ({ ...laid.value, ...said.value }))
  /**
   * Scans that have their place: laid before, placed by pairs just now, or the first where nothing is
   * placed.
   */
  const placed = computed<string[]>(() => {
    const r = record.value
    if (!r) return []
    const all = Object.keys(motions.value).filter((id) => r.scans.includes(id))
    return all.length ? all : r.scans.slice(0, 1)
  })
  const free = computed<string[]>(() => {
    const before = Object.keys(laid.value)
    return (record.value?.scans ?? []).filter(
      (id) => !before.includes(id) && (id !== placed.value[0] || before.length),
    )
  })
  const next = computed(() => free.value.find((id) => !placed.value.includes(id)) ?? null)
  const moving = computed(() => {
    if (chosen.value && free.value.includes(chosen.value)) return chosen.value
    return next.value ?? free.value[0] ?? null
  })
  const fixedShown = computed(() => placed.value.filter((id) => id !== moving.value))
  const mine = computed(() =>
    (record.value?.pairs ?? []).map((p, i) => ({ ...p, i })).filter((p) => p.moving === moving.value),
  )

  function put(side: Side, at: At) {
    half.value[side] = at
    const { fixed, moving: m } = half.value
    if (!fixed || !m) return
    record.value!.pairs.push({
      fixed: fixed.scan,
      moving: m.scan,
      fixed_place: fixed.place,
      moving_place: m.place,
    })
    chosen.value = m.scan // stays in hand for further pairs
    half.value = { fixed: null, moving: null }
    again()
  }
  function move(i: number, side: Side, place: Vec3) {
    record.value!.pairs[i][`${side}_place`] = place
  }
  function drop(i: number) {
    record.value!.pairs.splice(i, 1)
    again()
  }
  function again() {
    const counts = new Map<string, number>()
    for (const p of record.value!.pairs) counts.set(p.moving, (counts.get(p.moving) ?? 0) + 1)
    if ([...counts.values()].some((n) => n >= 3)) hand.tryIt(0)
    else hand.preview = null
  }
  watch(
    () => hand.held,
    () => {
      half.value = { fixed: null, moving: null }
      chosen.value = null
    },
  )
  return {
    half,
    chosen,
    linked,
    placed,
    free,
    moving,
    fixedShown,
    mine,
    motions,
    next,
    put,
    move,
    drop,
    again,
  }
})
