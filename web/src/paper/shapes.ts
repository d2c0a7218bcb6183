/** How entities are drawn on the paper, and their places. Only for the eye: nothing is computed. */
import type { Schemas } from '../api/types'

export type Entity = Schemas['SketchEntity']
export type XY = [number, number]

const arcPath = (e: Entity) => {
  const [x, y] = e.center!
  const r = e.radius!
  const angle = (p: number[]) => Math.atan2(p[1] - y, p[0] - x)
  const a = angle(e.start!)
  const b = angle(e.end!)
  const turn = (((e.ccw ? b - a : a - b) % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI)
  const far = turn > Math.PI ? 1 : 0
  return `M${e.start![0]} ${-e.start![1]}A${r} ${r} 0 ${far} ${e.ccw ? 0 : 1} ${e.end![0]} ${-e.end![1]}`
}

/** Places along a clamped B-spline, by de Boor's way. */
export function splinePoints(e: Entity, count = 96): XY[] {
  const k = e.degree!
  const t = e.knots!
  const poles = e.poles!
  const out: XY[] = []
  for (let n = 0; n <= count; n++) {
    const u = t[k] + ((t[t.length - k - 1] - t[k]) * n) / count
    let s = k
    while (s < poles.length - 1 && u >= t[s + 1]) s++
    const d = Array.from({ length: k + 1 }, (_, i) => [...poles[s - k + i]])
    for (let r = 1; r <= k; r++)
      for (let i = k; i >= r; i--) {
        const span = t[i + 1 + s - r] - t[i + s - k]
        const w = span > 0 ? (u - t[i + s - k]) / span : 0
        d[i] = [(1 - w) * d[i - 1][0] + w * d[i][0], (1 - w) * d[i - 1][1] + w * d[i][1]]
      }
    out.push([d[k][0], d[k][1]])
  }
  return out
}

/** An entity as an SVG path; y is up on the paper. */
export function pathOf(e: Entity): string {
  if (e.kind === 'line') return `M${e.start![0]} ${-e.start![1]}L${e.end![0]} ${-e.end![1]}`
  if (e.kind === 'point') return `M${e.at![0]} ${-e.at![1]}h0`
  if (e.kind === 'arc') return arcPath(e)
  if (e.kind === 'spline')
    return (
      'M' +
      splinePoints(e, 24 * Math.max(2, e.poles!.length - 3))
        .map((p) => `${p[0]} ${-p[1]}`)
        .join('L')
    )
  const [x, y] = e.center!
  if (e.kind === 'circle') {
    const r = e.radius!
    return `M${x - r} ${-y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`
  }
  const dx = e.major![0] - x
  const dy = e.major![1] - y
  const long = Math.hypot(dx, dy)
  const turn = (-Math.atan2(dy, dx) * 180) / Math.PI
  const at = `${e.minor_radius!} ${turn} `
  return (
    `M${x + dx} ${-(y + dy)}A${long} ${at}1 0 ${x - dx} ${-(y - dy)}` +
    `A${long} ${at}1 0 ${x + dx} ${-(y + dy)}Z`
  )
}

/** The places on an entity that can be held or dragged, by name. */
export function placesOf(e: Entity): { name: string; at: XY; pole: boolean }[] {
  const place = (which: string, p: number[] | null | undefined, pole = false) =>
    p ? [{ name: which ? `${e.id}.${which}` : e.id, at: [p[0], p[1]] as XY, pole }] : []
  if (e.kind === 'point') return place('', e.at)
  if (e.kind === 'spline') {
    const n = e.poles!.length
    return e.poles!.flatMap((p, k) =>
      place(k === 0 ? 'start' : k === n - 1 ? 'end' : `p${k}`, p, k > 0 && k < n - 1),
    )
  }
  if (e.kind === 'ellipse') return [...place('center', e.center), ...place('p1', e.major)]
  if (e.kind === 'circle') return place('center', e.center)
  if (e.kind === 'line') return [...place('start', e.start), ...place('end', e.end)]
  return [...place('start', e.start), ...place('end', e.end), ...place('center', e.center)]
}

/** Where an entity's mark is written: its middle. */
export function middleOf(e: Entity): XY {
  if (e.kind === 'line') return [(e.start![0] + e.end![0]) / 2, (e.start![1] + e.end![1]) / 2]
  if (e.kind === 'point') return [e.at![0], e.at![1]]
  if (e.kind === 'spline') return splinePoints(e, 2)[1]
  const [x, y] = e.center!
  if (e.kind === 'circle') return [x + e.radius! * 0.7071, y + e.radius! * 0.7071]
  if (e.kind === 'ellipse') return [e.major![0], e.major![1]]
  const angle = (p: number[]) => Math.atan2(p[1] - y, p[0] - x)
  const a = angle(e.start!)
  const turn = (b: number) => (((e.ccw ? b - a : a - b) % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI)
  const w = a + ((e.ccw ? 1 : -1) * turn(angle(e.end!))) / 2
  return [x + e.radius! * Math.cos(w), y + e.radius! * Math.sin(w)]
}
