/** What joining tools begin with: the scans, those placed already first, and the placement there is. */
import type { Room } from '../../state/room'
import type { PlacementTold } from '../../view3d/plan'

export const placedIds = (room: Room): string[] =>
  Object.keys(room.job.toldOf<PlacementTold>(room.job.placed)?.motions ?? {})

/** The scans to join, those placed already first: the others come to them. */
export function ordered(room: Room): string[] {
  const all = room.job.joinScans.filter((s) => !room.shown.hidden.has(room.job.root(s.id))).map((s) => s.id)
  const placed = placedIds(room).filter((id) => all.includes(id))
  return [...placed, ...all.filter((id) => !placed.includes(id))]
}
export const needScans = (room: Room) =>
  room.job.joinScans.length > 1 ? null : 'Needs two scans or more; bring them in Scans.'
export const needPlaces = (room: Room) => (room.job.placed ? null : 'Match scans first.')
export const laidPlacement = (room: Room) => room.job.placed?.id ?? null
