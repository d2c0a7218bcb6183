/** Faces of a body picked in the view, one by one. */
import type { Kind, Slot } from '../kind'
import { onModel } from './bodied'
import type { Room } from '../../state/room'

/** The slot of a record's field that lists faces by name. */
export const facesSlot = <R>(field: keyof R & string, says: string): Slot<R> => ({
  takes: ['face'],
  says,
  put: (at, r, room) => {
    if (at.what !== 'face') return
    const list = r as unknown as Record<string, string[]>
    const now = list[field]!
    list[field] = now.includes(at.name) ? now.filter((n) => n !== at.name) : [...now, at.name]
    if (list[field].length) room.hand.again(0)
    else room.hand.preview = null
  },
})
/** Faces are clicked on the body as it is before them. */
export const showsPicked: Kind<{ id?: string; body: string }>['shows'] = (_plan, r, _p, room) => {
  const key = room.hand.result ?? room.job.byId.get(r.body)?.key
  return { body: key ? { id: r.body, key } : null }
}
/** The model alone is looked at. */
export const onFaces = (room: Room) => {
  onModel(room)
  room.shown.show.scan = false
}
