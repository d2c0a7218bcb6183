/** A look without perspective: which way it looks, where its middle is, how large a mm is drawn. */
export type Vec = [number, number, number]
export type Camera = { right: Vec; up: Vec; toward: Vec; middle: Vec; scale: number }

export const dot = (a: readonly number[], b: readonly number[]) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
export const cross = (a: Vec, b: Vec): Vec => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
]
export const plus = (a: Vec, b: Vec, k = 1): Vec => [a[0] + k * b[0], a[1] + k * b[1], a[2] + k * b[2]]
export const unit = (a: Vec): Vec => {
  const n = Math.hypot(...a) || 1
  return [a[0] / n, a[1] / n, a[2] / n]
}

/** The six ways to look that have a name: towards the viewer, and what lies up. */
export const SIDES: { name: string; toward: Vec; up: Vec }[] = [
  { name: 'above', toward: [0, 0, 1], up: [0, 1, 0] },
  { name: 'below', toward: [0, 0, -1], up: [0, 1, 0] },
  { name: 'front', toward: [0, -1, 0], up: [0, 0, 1] },
  { name: 'back', toward: [0, 1, 0], up: [0, 0, 1] },
  { name: 'left', toward: [-1, 0, 0], up: [0, 0, 1] },
  { name: 'right', toward: [1, 0, 0], up: [0, 0, 1] },
]

export function lookFrom(toward: Vec, up: Vec, middle: Vec, scale: number): Camera {
  const t = unit(toward)
  const u = unit(plus(up, t, -dot(up, t)))
  return { toward: t, up: u, right: cross(u, t), middle, scale }
}

/** Where a place is drawn in a picture of this size, and how near it lies. */
export function drawn(c: Camera, p: readonly number[], wide: number, high: number) {
  const d: Vec = [p[0] - c.middle[0], p[1] - c.middle[1], p[2] - c.middle[2]]
  return {
    x: wide / 2 + c.scale * dot(c.right, d),
    y: high / 2 - c.scale * dot(c.up, d),
    near: dot(c.toward, d),
  }
}

/** The place under a spot of the picture at a height towards the viewer (mm from the camera's middle). */
export function placeAt(c: Camera, x: number, y: number, wide: number, high: number, near: number): Vec {
  const p = plus(c.middle, c.right, (x - wide / 2) / c.scale)
  return plus(plus(p, c.up, (high / 2 - y) / c.scale), c.toward, near)
}

/** Turned by a drag: sideways about what lies up in the level, up and down about what lies right. */
export function turned(c: Camera, dx: number, dy: number): Camera {
  const about = (v: Vec, axis: Vec, a: number): Vec => {
    const [s, k] = [Math.sin(a), Math.cos(a)]
    const x = cross(axis, v)
    const along = dot(axis, v) * (1 - k)
    return [0, 1, 2].map((i) => v[i] * k + x[i] * s + axis[i] * along) as Vec
  }
  const z: Vec = [0, 0, 1]
  const spin = (v: Vec) => about(v, z, -dx)
  const right = spin(c.right)
  const tip = (v: Vec) => about(spin(v), right, -dy)
  return lookFrom(tip(c.toward), tip(c.up), c.middle, c.scale)
}

/** A round length that is about so many pixels long, for a rule beside the picture. */
export function ruleOf(scale: number, pixels = 110) {
  const wish = pixels / scale
  const ten = 10 ** Math.floor(Math.log10(wish))
  const mm = ([5, 2, 1].find((k) => k * ten <= wish) ?? 1) * ten
  return { mm, pixels: mm * scale }
}

/** A way to and fro over places as they are seen, lanes no wider apart than the line; beyond `all`. */
export function lanesOver(c: Camera, places: number[][], all: number[][], width: number): Vec[] {
  const span = (to: Vec) => {
    const v = places.map((p) => dot(p, to))
    return [Math.min(...v), Math.max(...v)]
  }
  const [left, right] = span(c.right)
  const [low, high] = span(c.up)
  const near = all.map((p) => dot(p, c.toward))
  const before = Math.max(...near) + 0.1 * (Math.max(...near) - Math.min(...near)) + width
  const lanes = Math.max(Math.ceil((high - low) / (0.9 * width)), 1)
  return Array.from({ length: lanes }, (_, k) => {
    const y = low + ((k + 0.5) / lanes) * (high - low)
    const ends = k % 2 ? [right, left] : [left, right]
    return ends.map((x) => [0, 1, 2].map((i) => x * c.right[i] + y * c.up[i] + before * c.toward[i]) as Vec)
  }).flat()
}
