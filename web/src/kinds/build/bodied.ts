/** What kinds that give a body have in common on the screen. */
import type { StepRecord } from '../../api/types'
import { short } from '../../state/format'
import type { Room } from '../../state/room'
import type { Figure, Kind } from '../kind'
import { needBody, needFrame } from '../picks'

type BodyTold = { volume: number; area: number; faces: number; solids: number }

export const bodyFigures: Figure<BodyTold>[] = [
  { key: 'volume', label: 'volume', of: (t) => (t.solids ? `${short(t.volume / 1000)} cm³` : '') },
  { key: 'area', label: 'area', of: (t) => (t.solids ? '' : `${short(t.area / 100)} cm²`) },
  { key: 'faces', label: 'faces', of: (t) => String(t.faces) },
  { key: 'solids', label: 'solids', of: (t) => (t.solids ? String(t.solids) : '') },
]

/** The preview's body instead of the last one. */
export const showsBody: Kind['shows'] = (plan, r, _p, room) => ({
  body: room.hand.result ? { id: r.id ?? '', key: room.hand.result } : plan.body,
})

export const twoBodies = (room: Room) =>
  needBody(room) ?? (room.job.bodies.length > 1 ? null : 'Lay a second body first; one stands by itself.')
export const frameOf = (room: Room) => room.job.frame!.id
export const needsFrame = needFrame
/** The model is looked at, not the scan. */
export const onModel = (room: Room) => {
  room.shown.model = true
}
export const begun = (room: Room, name: string, more: Record<string, unknown>): Partial<StepRecord> => ({
  name: room.job.freeName(name),
  ...more,
})
