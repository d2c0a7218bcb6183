/** What a kind's own form works on: the record in hand and what is told of it, as its kind's. */
import { computed } from 'vue'
import { useRoom } from '../state/room'

export function useStep<R, T>() {
  const room = useRoom()
  return {
    ...room,
    room,
    r: computed(() => room.hand.record as unknown as R),
    told: computed(() => room.hand.told as unknown as T | null),
  }
}
