/** Scans as they come over the wire: meshes whose vertices are parted at creases, and clouds. */
import * as THREE from 'three'
import { geometry, type Buffers } from '../../api/client'
import { stone } from '../stone'
import { partOf } from '../part'

export const fetchScan = (job: number, key: string, part: boolean): Promise<Buffers> =>
  part ? partOf(job, key) : geometry(job, key, 'scan')

/**
 * Values by the scan's own vertices, as many as are drawn: at a crease a vertex is drawn
 * once for each side.
 */
export function spread<A extends Float32Array | Uint8Array | Int32Array>(b: Buffers, values: A, each = 1): A {
  const from = b.arrays.sources as Uint32Array | undefined
  if (!from) return values
  const out = new (values.constructor as new (n: number) => A)(from.length * each)
  for (let i = 0; i < from.length; i++)
    for (let k = 0; k < each; k++) out[i * each + k] = values[from[i] * each + k]
  return out
}

export function facets(b: Buffers): THREE.BufferGeometry {
  const g = new THREE.BufferGeometry()
  const positions = spread(b, b.arrays.positions as Float32Array, 3)
  g.setAttribute('position', new THREE.BufferAttribute(positions, 3))
  g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
  if (b.arrays.colors) {
    const own = spread(b, b.arrays.colors as Uint8Array, 3)
    g.setAttribute('own', new THREE.BufferAttribute(own, 3, true))
  }
  g.setIndex(new THREE.BufferAttribute(b.arrays.indices as Uint32Array, 1))
  return g
}

export function dots(b: Buffers, colour: number): THREE.Points {
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.BufferAttribute(b.arrays.positions as Float32Array, 3))
  g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
  if (b.arrays.colors)
    for (const name of ['color', 'own'])
      g.setAttribute(name, new THREE.BufferAttribute(b.arrays.colors as Uint8Array, 3, true))
  if (b.arrays.some) g.setIndex(new THREE.BufferAttribute(b.arrays.some as Uint32Array, 1))
  const own = !!b.arrays.colors
  const material = new THREE.PointsMaterial({
    color: own ? 0xffffff : colour,
    vertexColors: own,
    size: 2.2,
    sizeAttenuation: false,
  })
  return new THREE.Points(g, material)
}

export const originOf = (b: Buffers) => new THREE.Vector3(...(b.header.origin as [number, number, number]))

/** A scan as something to add to the view. */
export function scanObject(b: Buffers, colour: number, more: THREE.MeshLambertMaterialParameters = {}) {
  const o = b.arrays.indices ? new THREE.Mesh(facets(b), stone(colour, more)) : dots(b, colour)
  o.matrixAutoUpdate = false
  o.userData = { buffers: b, colour, origin: originOf(b) }
  return o
}

/** Put a scan where a motion (or nothing) has it. */
export function placeScan(o: THREE.Object3D, motion: THREE.Matrix4) {
  const origin = o.userData.origin as THREE.Vector3
  o.matrix.copy(motion.clone().multiply(new THREE.Matrix4().makeTranslation(origin)))
  o.matrixWorldNeedsUpdate = true
}

/** Coloured by its vertices, or in its stone's colour again. */
export function paint(o: THREE.Mesh | THREE.Points, colours: Uint8Array | null, ownToo: boolean) {
  const m = o.material as THREE.MeshLambertMaterial | THREE.PointsMaterial
  const own = ownToo ? o.geometry.getAttribute('own') : null
  const by = colours ? new THREE.BufferAttribute(colours, 3, true) : own
  if (by) o.geometry.setAttribute('color', by)
  if (m.vertexColors !== !!by) m.needsUpdate = true
  m.vertexColors = !!by
  m.color.set(by ? 0xffffff : (o.userData.colour as number))
}

/** The corner of a facet that lies nearest to a place of the view. */
export function nearestCorner(mesh: THREE.Mesh, facet: number, place: THREE.Vector3): number {
  const index = mesh.geometry.getIndex()!
  const position = mesh.geometry.getAttribute('position') as THREE.BufferAttribute
  const local = mesh.worldToLocal(place.clone())
  let best = -1
  let near = Infinity
  for (let k = 0; k < 3; k++) {
    const v = index.getX(3 * facet + k)
    const gap = local.distanceToSquared(new THREE.Vector3().fromBufferAttribute(position, v))
    if (gap < near) [near, best] = [gap, v]
  }
  return best
}
