/** The survey of the scan on the bench: asked for, followed, stepped through. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { study, type SurveyView } from '../api/client'
import { useJob } from '../state/job'

export const useSurvey = defineStore('survey', () => {
  const j = useJob()
  const found = shallowRef<{ key: string; view: SurveyView } | null>(null)
  const at = ref<{ kind: string; i: number } | null>(null)
  const running = ref<{ progress: number; message: string } | null>(null)
  const error = ref('')
  const ticked = ref<Set<string>>(new Set())
  let asked: AbortController | null = null

  const target = computed(() => j.handScan ?? j.scan)
  const fresh = computed(() => (found.value && found.value.key === target.value?.key ? found.value.view : null))
  const wrong = computed(() => (fresh.value?.kinds ?? []).filter((k) => k.count))

  async function run() {
    const s = target.value
    if (!s?.key || (s.summary as any).is === 'cloud') return
    asked?.abort()
    const mine = (asked = new AbortController())
    running.value = { progress: 0, message: 'Starting' }
    error.value = ''
    try {
      const view = await study<SurveyView>(j.job!.id, '/survey', { scan: s.id }, (progress, message) => (running.value = { progress, message }), mine.signal)
      found.value = { key: s.key, view }
      at.value = null
      ticked.value = new Set(view.kinds.filter((k) => k.count && k.kind !== 'tunnels' && k.kind !== 'needle_triangles').map((k) => k.kind))
    } catch (e) {
      if ((e as Error).name !== 'AbortError') error.value = (e as Error).message
    } finally {
      if (mine === asked) running.value = null
    }
  }
  const stop = () => { asked?.abort(); running.value = null }

  /** Look at the next or the one before of a kind. */
  function step(kind: string, by: number) {
    const k = fresh.value?.kinds.find((x) => x.kind === kind)
    if (!k?.items.length) return
    const n = k.items.length
    const i = at.value?.kind === kind ? (at.value.i + by + n) % n : 0
    at.value = { kind, i }
    const item = k.items[i]
    j.lines = item.lines.map((points) => ({ points, closed: true, colour: 'brick' }))
    const near = Math.max(...item.lines.flat().map((p) => Math.hypot(...p.map((v, c) => v - item.place[c]))), 0.1)
    j.focus = { place: item.place, size: near * 5 }
  }
  watch(() => j.job?.id, () => { found.value = null; at.value = null })
  return { found, fresh, wrong, at, running, error, ticked, target, run, stop, step }
})
