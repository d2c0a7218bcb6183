/**
 * What single screens draw of a result, fetched by its key when it is shown and kept: a result never
 * changes.
 */
import { defineStore } from 'pinia'
import { shallowReactive } from 'vue'
import { call } from '../api/client'
import type { StoneDetail } from '../api/types'

type Told = Record<string, unknown>
const MOST = 80

export const useDetails = defineStore('details', () => {
  const told = shallowReactive(new Map<string, Told>())
  const asked = new Map<string, Promise<Told>>()

  /** All a result tells. */
  function fetchTold<T = Told>(job: number, key: string): Promise<T> {
    let known = asked.get(key)
    if (!known) {
      known = call<{ summary: Told }>('GET', `/jobs/${job}/results/${key}`).then((r) => {
        told.set(key, r.summary)
        if (told.size > MOST) told.delete(told.keys().next().value!)
        return r.summary
      })
      known.catch(() => asked.delete(key))
      asked.set(key, known)
      if (asked.size > MOST) asked.delete(asked.keys().next().value!)
    }
    return known as Promise<T>
  }
  /** All a result tells as far as it is there; it is asked for where it is not, and this follows. */
  function toldOf<T = Told>(job: number, key: string | null | undefined): T | null {
    if (!key) return null
    const found = told.get(key)
    if (!found) fetchTold(job, key).catch(() => {})
    return (found as T | undefined) ?? null
  }
  /** A stone with its record. */
  const stone = (job: number, id: string) => call<StoneDetail>('GET', `/jobs/${job}/stones/${id}`)
  return { fetchTold, toldOf, stone }
})
