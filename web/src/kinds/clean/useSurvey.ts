/** The survey of the scan on the bench: asked for, followed, stepped through. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import type { SurveyView } from '../../api/types'
import { useHand } from '../../state/hand'
import { isCloud, useJob } from '../../state/job'
import { useShown } from '../../state/shown'
import { useStudy } from '../../state/studies'

// A sound part may have these by right.
const UNTICKED = ['tunnels', 'needle_triangles']

export const useSurvey = defineStore('survey', () => {
  const j = useJob()
  const hand = useHand()
  const shown = useShown()
  const { running, error, run, stop } = useStudy<SurveyView>('/survey')
  const found = shallowRef<{ key: string; view: SurveyView } | null>(null)
  const at = ref<{ kind: string; i: number } | null>(null)
  const ticked = ref<Set<string>>(new Set())

  const target = computed(() => hand.scan ?? j.scan)
  const fresh = computed(() => (found.value?.key === target.value?.key ? (found.value?.view ?? null) : null))
  const wrong = computed(() => (fresh.value?.kinds ?? []).filter((k) => k.count))

  async function look() {
    const s = target.value
    if (!s?.key || isCloud(s)) return
    const view = await run({ scan: s.id })
    if (!view) return
    found.value = { key: s.key, view }
    at.value = null
    const tick = view.kinds.filter((k) => k.count && !UNTICKED.includes(k.kind))
    ticked.value = new Set(tick.map((k) => k.kind))
  }

  /** Look at the next or the one before of a kind. */
  function step(kind: string, by: number) {
    const k = fresh.value?.kinds.find((x) => x.kind === kind)
    if (!k?.items.length) return
    const n = k.items.length
    const i = at.value?.kind === kind ? (at.value.i + by + n) % n : 0
    at.value = { kind, i }
    const item = k.items[i]
    shown.lines = item.lines.map((points) => ({ points, closed: true, colour: 'brick' }))
    const far = item.lines.flat().map((p) => Math.hypot(...p.map((v, c) => v - item.place[c])))
    shown.lookAt(item.place, Math.max(...far, item.size, 1e-3) * 5)
  }
  watch(
    () => j.job?.id,
    () => {
      found.value = null
      at.value = null
    },
  )
  return { fresh, wrong, at, running, error, ticked, target, look, stop, step }
})
