/** Picks on a scan: a place, the rule that grows it, and how far. */
import type { PickRecord, StepRecord } from '../api/types'
import type { Room } from '../state/room'
import type { Under } from '../view3d/picking'
import type { Slot } from './kind'

const USUAL = { 'same facing': 12, 'same bend': 20 } as const

export const angleOf = (pick: PickRecord) => pick.angle_deg ?? USUAL[pick.rule]

/** What was clicked as a pick; its angle stays as it was where the rule does. */
export function pickAt(
  at: Under,
  rule: PickRecord['rule'],
  old: PickRecord | null | undefined,
): PickRecord | null {
  if (at.what !== 'scan') return null
  return {
    place: at.place,
    normal: at.normal,
    rule,
    angle_deg: old?.rule === rule ? (old.angle_deg ?? null) : null,
    marks: [],
  }
}

/** The slot of a bare place on the scan, by which the nearest of several is told. */
export const nearSlot = <R extends { near?: number[] | null }>(says: string): Slot<R> => ({
  takes: ['scan'],
  says,
  put: (at, r, room) => {
    if (at.what !== 'scan') return
    r.near = at.place
    room.hand.again(0)
  },
})

/** Tighten or widen a pick by a factor, and show it anew. */
export function widenPick(
  pick: PickRecord,
  factor: number,
  scan: string,
  element: string | null,
  room: Room,
) {
  pick.angle_deg = Math.min(60, Math.max(1, Math.round(angleOf(pick) * factor * 10) / 10))
  room.hand.showPick(scan, pick, element)
  room.hand.tryIt()
}

export const doneOf = (room: Room, gives: string) => room.job.given(gives)
export const needScan = (room: Room) => (room.job.scan ? null : 'Needs a scan.')
export const needFrame = (room: Room) => needScan(room) ?? (room.job.frame ? null : 'Set a frame first.')
export const needSketch = (room: Room) =>
  needFrame(room) ?? (doneOf(room, 'sketch').length ? null : 'Lay a sketch first.')
export const needBody = (room: Room) => needFrame(room) ?? (room.job.body ? null : 'Lay a body first.')

/** The fields of a record, as what its kind says they are. */
export const as = <R>(record: StepRecord) => record as unknown as R
