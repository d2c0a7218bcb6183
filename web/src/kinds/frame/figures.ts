/** What each way to make a datum of what is given would come to, worked out one after another. */
import { computed, onUnmounted, reactive, watch } from 'vue'
import type { Refusal } from '../../api/client'
import type { Schemas } from '../../api/types'
import { useStep } from '../useStep'
import type { WayName } from './ways'

type Told = Schemas['ConstructTold']
type Figure = { gives: string; between: string } | { not: string }
const CALLED: { [element: string]: string } = { plane: 'plane', line: 'axis', point: 'point' }

export const calledOf = (element: string) => CALLED[element] ?? element
export const failed = (f?: Figure): f is { not: string } => !!f && 'not' in f

/** "axis · ± 0.018 mm · ± 0.041°" */
export function figureOf(t: Pick<Told, 'element' | 'says' | 'direction_uncertainty_deg'>): string {
  const turn = t.direction_uncertainty_deg
  return [
    calledOf(t.element),
    `${t.says} mm`,
    ...(turn === null ? [] : [`± ${(2 * turn).toFixed(3)}°`]),
  ].join(' · ')
}

/** The figures of these ways for what is in hand, by name, filled as they are worked out. */
export function useFigures(ways: () => WayName[]) {
  const { job, hand, r } = useStep<Schemas['ConstructStep'], Told>()
  const figures = reactive(new Map<WayName, Figure>())
  let asked: AbortController | null = null
  const given = computed(() =>
    JSON.stringify([r.value?.of, r.value?.distance, r.value?.angle_deg, r.value?.flip, ways()]),
  )

  async function work(mine: AbortController) {
    for (const way of ways().filter((w) => !figures.has(w))) {
      const got = await hand.weigh({ way }, mine.signal)
      if (mine !== asked) return
      const t = got.summary as unknown as Told
      if (got.status === 'failed') figures.set(way, { not: got.says })
      else if (t.element) figures.set(way, { gives: figureOf(t), between: t.between })
    }
  }
  watch(given, () => figures.clear())
  // A newer question stops the one before it, so what is in hand comes first.
  watch(
    [given, () => hand.trying],
    () => {
      asked?.abort()
      asked = new AbortController()
      if (hand.trying || !hand.held) return
      work(asked).catch((e: Error) => {
        if (e.name !== 'AbortError' && (e as Refusal).code !== 'cancelled') job.error = e.message
      })
    },
    { immediate: true },
  )
  onUnmounted(() => asked?.abort())
  return figures
}
