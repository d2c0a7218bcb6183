/** Where sizes are written on the paper: along what they measure, outside the drawing, none over another. */
import type { Schemas } from '../api/types'
import { short } from '../state/format'
import type { Entity } from './shapes'

type Size = Schemas['SizeTold']
export type Bounds = { x0: number; x1: number; y0: number; y1: number }
export type Label = {
  id: string
  index: number
  text: string
  x: number
  y: number
  line: string
  held: boolean
}

const placeOn = (name: string, by: Map<string, Entity>): number[] | null => {
  const [who, which] = name.split('.')
  if (who === 'origin') return [0, 0]
  const e = by.get(who)
  if (!e) return null
  if (!which) return e.kind === 'point' ? e.at! : (e.center ?? null)
  if (which === 'start') return e.kind === 'spline' ? e.poles![0] : e.start!
  if (which === 'end') return e.kind === 'spline' ? e.poles!.at(-1)! : e.end!
  if (which === 'center') return e.center!
  const k = Number(which.slice(1))
  return e.kind === 'spline' ? e.poles![k] : e.kind === 'ellipse' ? e.major! : null
}

const text = (z: Size): string => {
  const n = short(z.chosen ?? 0)
  if (z.unit === 'deg') return `${n}°`
  return z.kind === 'diameter' || z.kind === 'radius'
    ? `${z.label || (z.kind === 'radius' ? 'R' : '⌀')} ${n}`
    : n
}

/** A dimension between two places across x, across y, or straight. */
function between(p: number[], q: number[], way: 'x' | 'y' | 'straight', o: number, b: Bounds) {
  if (way === 'x') {
    const y = -b.y0 + o
    return {
      x: (p[0] + q[0]) / 2,
      y,
      line: `M${p[0]} ${-p[1]}V${y}M${q[0]} ${-q[1]}V${y}M${p[0]} ${y}H${q[0]}`,
    }
  }
  if (way === 'y') {
    const x = b.x1 + o
    return {
      x,
      y: -(p[1] + q[1]) / 2,
      line: `M${p[0]} ${-p[1]}H${x}M${q[0]} ${-q[1]}H${x}M${x} ${-p[1]}V${-q[1]}`,
    }
  }
  return { x: (p[0] + q[0]) / 2, y: -(p[1] + q[1]) / 2, line: `M${p[0]} ${-p[1]}L${q[0]} ${-q[1]}` }
}

function placed(z: Size, by: Map<string, Entity>, o: number, unit: number, b: Bounds) {
  const e = by.get(z.of[0].split('.')[0])
  const p = placeOn(z.of[0], by)
  const q = placeOn(z.of[z.of.length - 1], by)
  if (z.kind === 'place_x' && p) return between(p, [0, p[1]], 'x', o, b)
  if (z.kind === 'place_y' && p) return between(p, [p[0], 0], 'y', o, b)
  if (z.kind === 'spacing_x' && p && q) return between(p, q, 'x', o, b)
  if (z.kind === 'spacing_y' && p && q) return between(p, q, 'y', o, b)
  if ((z.kind === 'spacing' || z.kind === 'distance') && p && q && z.of.length === 2)
    return between(p, q, 'straight', 0, b)
  if (!e) return null
  if (e.center && (z.kind.endsWith('radius') || z.kind === 'diameter')) {
    const [x, y] = e.center
    const r = e.radius ?? e.minor_radius ?? 0
    const mx = (b.x0 + b.x1) / 2
    const my = (b.y0 + b.y1) / 2
    if (e.kind === 'circle') return { x, y: -y + (y > my ? 1 : -1) * (r + 14 * unit), line: '' }
    return {
      x: x + Math.sign(x - mx) * (r + 26 * unit),
      y: -y - Math.sign(y - my) * (r + 8 * unit),
      line: '',
    }
  }
  if (e.kind !== 'line') return null
  const s = e.start!
  const t = e.end!
  if (z.kind === 'length')
    return between(
      s,
      t,
      Math.abs(t[1] - s[1]) < 1e-6 ? 'x' : Math.abs(t[0] - s[0]) < 1e-6 ? 'y' : 'straight',
      o,
      b,
    )
  const f = by.get(z.of[1]?.split('.')[0])
  if (z.kind === 'angle') {
    const other = f?.start ? [(f.start[0] + f.end![0]) / 2, (f.start[1] + f.end![1]) / 2] : [0, 0]
    const m = [(s[0] + t[0]) / 2, (s[1] + t[1]) / 2]
    return {
      x: (m[0] * 2 + other[0]) / 3,
      y: -(m[1] * 2 + other[1]) / 3,
      line: `M${m[0]} ${-m[1]}L${other[0]} ${-other[1]}`,
    }
  }
  const o2 = f?.start ?? q
  if (!o2) return null
  return Math.abs(t[1] - s[1]) < Math.abs(t[0] - s[0]) ? between(s, o2, 'y', o, b) : between(s, o2, 'x', o, b)
}

/** Labels of all sizes, moved apart where one would cover another. `unit` is what a pixel is, mm. */
export function labelsOf(sizes: Size[], geometry: Entity[], unit: number, b: Bounds | null): Label[] {
  if (!b) return []
  const by = new Map(geometry.map((e) => [e.id, e]))
  const out: Label[] = []
  let [across, up] = [0, 0]
  sizes.forEach((z, index) => {
    if (z.chosen === null) return
    const words = text(z)
    const wide = words.length * 7.2 + 12
    const trial = placed(z, by, 22 * unit, unit, b)
    if (!trial) return
    const below = trial.line.includes('V' + (-b.y0 + 22 * unit))
    const beside = trial.line.includes('H' + (b.x1 + 22 * unit))
    const o = (below ? 22 + 21 * across++ : beside ? 24 + 40 * up++ : 22) * unit
    const at = placed(z, by, o, unit, b)!
    // What is free to be anywhere steps aside from what is there already.
    if (!below && !beside)
      for (
        let n = 0;
        n < 8 &&
        out.some(
          (l) =>
            Math.abs(l.x - at.x) < (wide / 2 + l.text.length * 3.6 + 8) * unit &&
            Math.abs(l.y - at.y) < 20 * unit,
        );
        n++
      )
        at.y += (n % 2 ? -1 : 1) * (n + 1) * 20 * unit
    out.push({ id: z.id, index, text: words, ...at, held: z.source !== 'scan' })
  })
  return out
}
