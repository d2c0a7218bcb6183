/** Places along an axis that are dragged as dots in the view: on the scan, or freely along the axis. */
import type { Matrix, Schemas, Vec3 } from '../../api/types'
import { across } from '../../view3d/plan'
import type { Room } from '../../state/room'
import type { Slot } from '../kind'

type Vector = number[]
type Chosen = Schemas['Chosen']
/** What a preview says that has an axis in the frame: a place and a direction. */
export type AxisTold = { axis?: Vector[] } | null

const dot = (a: Vector, b: Vector) => a.reduce((t, c, k) => t + c * b[k], 0)
const SNAP = 0.015 // of the part's size: so near a flat face that was read, a dot is drawn onto it

/** A place of the frame in the scan's coordinates; the frame moves and does not stretch. */
export const onScan = (m: Matrix, p: Vector) => {
  const d = p.map((c, k) => c - m[k][3])
  return [0, 1, 2].map((c) => m[0][c] * d[0] + m[1][c] * d[1] + m[2][c] * d[2]) as Vec3
}
const turned = (m: Matrix, v: Vector) => [0, 1, 2].map((k) => dot(m[k].slice(0, 3), v)) as Vec3
const inFrame = (m: Matrix, p: Vector) => turned(m, p).map((c, k) => c + m[k][3]) as Vec3

/** Heights along a direction of the flat datums that lie across it. */
function flats(room: Room, m: Matrix, way: Vector): number[] {
  return room.job.given('datum').flatMap((stone) => {
    const told = stone.told as { element?: string; parameters?: { point?: Vector; normal?: Vector } }
    const { point, normal } = told.parameters ?? {}
    if (told.element !== 'plane' || !point || !normal) return []
    return Math.abs(dot(turned(m, normal), way)) > 0.9998 ? [dot(inFrame(m, point), way)] : []
  })
}

/** A height as a hand would choose it: on a face that was read nearby, else no finer than a hand drags. */
export function heightChosen(height: number, faces: number[], size: number): number {
  const near = [...faces, 0].sort((a, b) => Math.abs(a - height) - Math.abs(b - height))[0]
  if (Math.abs(near - height) < SNAP * size) return Number(near.toPrecision(9))
  const step = 10 ** Math.floor(Math.log10(size / 200))
  return Number((Math.round(height / step) * step).toPrecision(9))
}

/**
 * Dots for numbers along the axis that the preview tells; `from` says where they count from along it, `shown`
 * whether there are any.
 */
export function alongAxis<R extends object, T extends AxisTold>(
  fields: (keyof R & string)[],
  from: (told: NonNullable<T>) => number = () => 0,
  shown: (record: R) => boolean = () => true,
): NonNullable<Slot<R>['handles']> {
  const axis = (room: Room) => {
    const told = room.hand.told as unknown as T
    const m = room.job.matrix
    const [point, way] = told?.axis ?? []
    if (!told || !m || !point) return null
    const foot = point.map((c, k) => c - dot(point, way) * way[k])
    return { m, foot, way, from: from(told) }
  }
  return {
    of: (r, room) => {
      const a = shown(r) ? axis(room) : null
      if (!a) return []
      const { m, foot, way } = a
      return fields.map((f) => {
        const h = a.from + ((r[f] as Chosen).value ?? 0)
        return onScan(
          m,
          foot.map((c, k) => c + h * way[k]),
        )
      })
    },
    way: (_k, _r, room) => {
      const a = axis(room)
      return a && ([0, 1, 2].map((c) => dot([a.m[0][c], a.m[1][c], a.m[2][c]], a.way)) as Vec3)
    },
    move: (k, to, r, room) => {
      const a = axis(room)
      if (!a) return
      const h = heightChosen(dot(inFrame(a.m, to), a.way), flats(room, a.m, a.way), across(room.job.scan))
      const value = Number((h - a.from).toPrecision(9))
      ;(r as { [key: string]: unknown })[fields[k]] = { value, source: 'typed' } satisfies Chosen
    },
  }
}
