/** The marking tool: what the next mark is made by and how it joins, and what the marks in hand select. */
import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import { numbers } from '../api/client'
import type { MarkRecord, Selected } from '../api/types'
import { useJob } from './job'

export const MARK_RULES = [
  'brush',
  'outline',
  'whole island',
  'same facing',
  'same bend',
  'up to a crease',
  'zone',
  'similar pieces',
] as const
export type MarkRule = (typeof MARK_RULES)[number]
export const MARK_SAYS: Record<MarkRule, string> = {
  brush: 'Drag over the surface',
  outline: 'Draw around it',
  'whole island': 'Click a connected piece',
  'same facing': 'Click; it spreads while it faces the same way',
  'same bend': 'Click; it spreads over one bend',
  'up to a crease': 'Click; it spreads up to sharp edges',
  zone: 'Click a face; it is taken whole, whatever its kind',
  'similar pieces': 'Click a piece; all of about its size follow',
}
/** Rules that need no facets: those that work on clouds. */
export const CLOUD_RULES: MarkRule[] = ['brush', 'outline', 'whole island', 'similar pieces']

export type Mark = Partial<MarkRecord> & Pick<MarkRecord, 'by'>

export const useMarks = defineStore('marks', () => {
  const j = useJob()
  const by = ref<MarkRule>('brush')
  const how = ref<'add' | 'take away' | 'intersect'>('add')
  const through = ref(false)
  const radius = ref(2)
  /** The radius then is in pixels. */
  const onScreen = ref(false)
  const angle = ref<Record<string, number>>({ 'same facing': 12, 'same bend': 20, 'up to a crease': 28 })
  /** How much the marks select. */
  const marked = shallowRef<{ count: number; total: number; area: number | null } | null>(null)

  let asking: AbortController | null = null
  /**
   * What marks select of a scan, as facets of what is shown; null where a newer question
   * overtook this one.
   */
  async function select(scan: string, marks: Mark[]): Promise<Uint32Array | null> {
    asking?.abort()
    const mine = (asking = new AbortController())
    try {
      const got = await j.ask<Selected>('/select', { scan, marks }, mine.signal)
      if (mine !== asking) return null
      marked.value = { count: got.count, total: got.total, area: got.area ?? null }
      return numbers(got.shown)
    } catch (e) {
      if ((e as Error).name === 'AbortError') return null
      throw e
    }
  }
  function forget() {
    asking?.abort()
    marked.value = null
  }
  /** Tighten or widen what the next mark reaches. */
  function widen(factor: number) {
    if (by.value === 'brush') radius.value = Number((radius.value * factor).toFixed(2))
    else if (by.value in angle.value)
      angle.value[by.value] = Math.round(Math.min(60, Math.max(1, angle.value[by.value] * factor)))
  }
  return { by, how, through, radius, onScreen, angle, marked, select, forget, widen }
})
