/** All that the screens hold of a job, for those who need to look at several of it. */
import { useHand, type Hand } from './hand'
import { useJob } from './job'
import { useMarks } from './marks'
import { useShown } from './shown'

export interface Room {
  job: ReturnType<typeof useJob>
  hand: Hand
  shown: ReturnType<typeof useShown>
  marks: ReturnType<typeof useMarks>
}
export const useRoom = (): Room => ({ job: useJob(), hand: useHand(), shown: useShown(), marks: useMarks() })
