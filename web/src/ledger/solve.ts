/** All numbers moved together against the scan: asked for, followed, taken or left. */
import { defineStore } from 'pinia'
import { reactive, ref, shallowRef, watch } from 'vue'
import type { Schemas } from '../api/types'
import { useJob } from '../state/job'
import { useStudy } from '../state/studies'

export type Solved = Schemas['SolvedView']

export const useSolve = defineStore('solve', () => {
  const j = useJob()
  const { running, error, run, stop } = useStudy<Solved>('/solve')
  const found = shallowRef<Solved | null>(null)
  /** Names of the values to move; none: all that follow the scan. */
  const ticked = reactive(new Set<string>())
  watch([() => j.job?.id, () => j.job?.revision], ([job], [before]) => {
    found.value = null
    // What was changed meanwhile is asked of again; another job is not this one's.
    if (running.value && job === before) ask()
    else stop()
  })
  async function ask() {
    found.value = null
    found.value = await run({ names: ticked.size ? [...ticked] : null })
  }
  const taking = ref(false)
  async function take() {
    const values = found
      .value!.values.filter((v) => v.uncertainty !== null)
      .map((v) => ({ name: v.name, value: v.after }))
    taking.value = true
    if (await j.act('POST', '/solve/taken', { values })) {
      found.value = null
      ticked.clear()
    }
    taking.value = false
  }
  function tick(name: string) {
    if (!ticked.delete(name)) ticked.add(name)
  }
  return { running, error, found, ticked, taking, ask, stop, take, tick }
})
