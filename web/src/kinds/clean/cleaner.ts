/** What cleaning tools have in common: they work on the scan chosen, and say what they cost in figures. */
import type { Schemas } from '../../api/types'
import { mm, whole } from '../../state/format'
import { isCloud, scanLine } from '../../state/job'
import type { Room } from '../../state/room'
import { across } from '../../view3d/plan'
import type { Figure } from '../kind'
import { needScan } from '../picks'

export const onCloud = (room: Room) => isCloud(room.job.scan)
export const onMesh = (room: Room) => !onCloud(room)

/** A tool that puts its kind in hand on the scan chosen, with these fields. */
export const cleaner = <R>(
  id: string,
  name: string,
  says: string,
  fields: (room: Room) => Partial<R>,
  more: { fits?: (room: Room) => boolean; also?: string; slot?: string; group?: string; place?: number } = {},
) => ({
  id,
  name,
  says,
  needs: needScan,
  ...more,
  record: (room: Room) =>
    ({ name: room.job.freeName(name), scan: room.job.scan!.id, ...fields(room) }) as unknown as Partial<R>,
})

/** A length to begin with, of the scan's size. */
export const someLength = (room: Room) => Number((0.012 * across(room.job.scan)).toPrecision(2))
export const trianglesOf = (room: Room) => (room.job.scan ? scanLine(room.job.scan).triangles : 0)

type Counted = { triangles: number }
export const trianglesBefore: Figure<Counted> = {
  key: 'triangles',
  label: 'triangles',
  of: (t, b) => `${whole(b.triangles as number)} → ${whole(t.triangles)}`,
}
/** A length of what it tells. */
export const length = <T>(key: keyof T & string, label: string, digits = 4): Figure<T> => ({
  key,
  label,
  of: (t) => `${mm(t[key] as number, digits)} mm`,
})
export const number = <T>(key: keyof T & string, label: string): Figure<T> => ({
  key,
  label,
  of: (t) => whole(t[key] as number),
})
export type Told<K extends keyof Schemas> = Schemas[K]
