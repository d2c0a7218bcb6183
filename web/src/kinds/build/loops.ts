/** A sketch's loops as lines in the frame's coordinates. */
import type { Schemas } from '../../api/types'
import { splinePoints, type Entity } from '../../paper/shapes'
import type { LoopPlan } from '../../view3d/plan'

export type SketchTold = Schemas['SketchTold']

const STEPS = 48 // of a full turn

/** Points along an entity on the paper, ends included. */
export function course(e: Entity): number[][] {
  if (e.kind === 'line') return [e.start!, e.end!]
  if (e.kind === 'spline') return splinePoints(e, STEPS)
  const [cx, cy] = e.center!
  const full = 2 * Math.PI
  if (e.kind === 'ellipse') {
    const a = [e.major![0] - cx, e.major![1] - cy]
    const f = e.minor_radius! / Math.hypot(a[0], a[1])
    return Array.from({ length: STEPS + 1 }, (_, k) => {
      const [c, s] = [Math.cos((full * k) / STEPS), Math.sin((full * k) / STEPS)]
      return [cx + c * a[0] - s * f * a[1], cy + c * a[1] + s * f * a[0]]
    })
  }
  const r = e.radius!
  const angle = (p: number[]) => Math.atan2(p[1] - cy, p[0] - cx)
  const a = e.kind === 'arc' ? angle(e.start!) : 0
  const b = e.kind === 'arc' ? angle(e.end!) : full
  const turn = e.kind === 'circle' ? full : e.ccw ? (b - a + full) % full : -((a - b + full) % full)
  const n = Math.max(2, Math.ceil((STEPS * Math.abs(turn)) / full))
  return Array.from({ length: n + 1 }, (_, k) => {
    const t = a + (turn * k) / n
    return [cx + r * Math.cos(t), cy + r * Math.sin(t)]
  })
}

/** From a sketch's paper into space. */
function intoSpace(told: SketchTold): (p: number[]) => number[] {
  const { origin, normal: n, u } = told.plane as { origin: number[]; normal: number[]; u: number[] }
  const v = [n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]]
  return (p) => [0, 1, 2].map((k) => origin[k] + u[k] * p[0] + v[k] * p[1])
}

/** Each line, arc and spline that is drawn in a sketch, in space. */
export const drawnInSpace = (told: SketchTold): number[][][] =>
  told.geometry
    .filter((e) => e.kind !== 'point' && !e.construction)
    .map((e) => course(e).map(intoSpace(told)))

/** Each loop of a sketch, in space; pieces are turned so that they follow on. */
export function loopsInSpace(sketch: string, told: SketchTold): LoopPlan[] {
  const to = intoSpace(told)
  const by = new Map(told.geometry.map((e) => [e.id, e]))
  const gap = (a: number[], b: number[]) => Math.hypot(a[0] - b[0], a[1] - b[1])
  return told.loops.map((ids) => {
    const pieces = ids.map((id) => course(by.get(id)!))
    const line = [...pieces[0]]
    const next = pieces[1]
    const near = (p: number[], piece: number[][]) =>
      Math.min(gap(p, piece[0]), gap(p, piece[piece.length - 1]))
    if (next && near(line[0], next) < near(line[line.length - 1], next)) line.reverse()
    for (const piece of pieces.slice(1)) {
      const end = line[line.length - 1]
      line.push(
        ...(gap(end, piece[0]) <= gap(end, piece[piece.length - 1]) ? piece : [...piece].reverse()).slice(1),
      )
    }
    return { sketch, entity: ids[0], points: [...line, line[0]].map(to) }
  })
}
