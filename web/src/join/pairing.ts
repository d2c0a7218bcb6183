/** Pairs being picked: which scan is brought, and the half of a pair that waits for its other. */
import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { useJob } from '../state/job'

type At = { scan: string; place: [number, number, number] }

export const usePairing = defineStore('pairing', () => {
  const j = useJob()
  const half = ref<{ fixed: At | null; moving: At | null }>({ fixed: null, moving: null })
  const chosen = ref<string | null>(null)
  const linked = ref(false)
  const record = computed(() => j.hand?.record)
  /** Scans that have their place: laid before, placed by pairs just now, or the first where nothing is placed. */
  const placed = computed<string[]>(() => {
    const r = record.value
    if (!r) return []
    const laid = r.placement ? Object.keys((j.byId.get(r.placement)?.summary as any)?.motions ?? {}) : []
    const now = Object.keys((j.preview?.summary as any)?.motions ?? {})
    const all = [...new Set([...laid, ...now])].filter((id) => r.scans.includes(id))
    return all.length ? all : r.scans.slice(0, 1)
  })
  const laidBefore = computed<string[]>(() => (record.value?.placement ? Object.keys((j.byId.get(record.value.placement)?.summary as any)?.motions ?? {}) : []))
  const free = computed<string[]>(() => (record.value?.scans ?? []).filter((id: string) => !laidBefore.value.includes(id) && (id !== placed.value[0] || laidBefore.value.length)))
  const moving = computed(() => (chosen.value && free.value.includes(chosen.value) ? chosen.value : free.value.find((id) => !placed.value.includes(id)) ?? free.value[0] ?? null))
  const fixedShown = computed(() => placed.value.filter((id) => id !== moving.value))
  const mine = computed<any[]>(() => (record.value?.pairs ?? []).map((p: any, i: number) => ({ ...p, i })).filter((p: any) => p.moving === moving.value))
  const motions = computed<Record<string, number[][]>>(() => {
    const laid = record.value?.placement ? ((j.byId.get(record.value.placement)?.summary as any)?.motions ?? {}) : {}
    return { ...laid, ...((j.preview?.summary as any)?.motions ?? {}) }
  })
  function put(side: 'fixed' | 'moving', at: At) {
    half.value[side] = at
    const { fixed, moving: m } = half.value
    if (!fixed || !m) return
    record.value!.pairs.push({ fixed: fixed.scan, moving: m.scan, fixed_place: fixed.place, moving_place: m.place })
    chosen.value = m.scan // stays in hand for further pairs
    half.value = { fixed: null, moving: null }
    again()
  }
  function move(i: number, side: 'fixed' | 'moving', place: [number, number, number]) {
    record.value!.pairs[i][`${side}_place`] = place
  }
  function drop(i: number) {
    record.value!.pairs.splice(i, 1)
    again()
  }
  function again() {
    const counts = new Map<string, number>()
    for (const p of record.value!.pairs) counts.set(p.moving, (counts.get(p.moving) ?? 0) + 1)
    if ([...counts.values()].some((n) => n >= 3)) j.tryIt(0)
    else j.preview = null
  }
  const next = computed(() => free.value.find((id) => !placed.value.includes(id)) ?? null)
  watch(() => j.hand, () => { half.value = { fixed: null, moving: null }; chosen.value = null })
  return { half, chosen, linked, placed, free, moving, fixedShown, mine, motions, next, put, move, drop, again }
})
