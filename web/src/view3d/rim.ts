/** The rims of circles, slots and rectangles, as they lie in space. */
import * as THREE from 'three'

type Vec = number[]
export type Rimmed = {
  center?: Vec
  normal?: Vec
  up?: Vec
  direction?: Vec
  radius?: number
  length?: number
  width?: number
  corner?: number
}

const STEPS = 24 // a quarter

/** Places along the rim, one after another; null where the element has none. */
export function rimOf(element: string, p: Rimmed): THREE.Vector3[] | null {
  const round = element === 'circle'
  if (!p.center || !(round || element === 'slot' || element === 'rectangle')) return null
  const up = new THREE.Vector3(...(p.normal ?? p.up)!)
  const along = p.direction
    ? new THREE.Vector3(...p.direction)
    : new THREE.Vector3(...(Math.abs(up.x) < 0.9 ? [1, 0, 0] : [0, 1, 0])).cross(up).normalize()
  const across = up.clone().cross(along)
  const length = round ? 2 * p.radius! : p.length!
  const width = round ? length : p.width!
  const r = round ? p.radius! : element === 'slot' ? width / 2 : (p.corner ?? 0)
  const [a, b] = [length / 2 - r, width / 2 - r]
  const centre = new THREE.Vector3(...p.center)
  const out: THREE.Vector3[] = []
  ;[
    [a, b],
    [-a, b],
    [-a, -b],
    [a, -b],
  ].forEach(([x, y], quarter) => {
    for (let i = 0; i <= STEPS; i++) {
      const t = (Math.PI / 2) * (quarter + i / STEPS)
      out.push(
        centre
          .clone()
          .addScaledVector(along, x + r * Math.cos(t))
          .addScaledVector(across, y + r * Math.sin(t)),
      )
    }
  })
  return out
}
