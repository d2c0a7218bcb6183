/** Signed distances as the tide's colours, on the scan. */
import * as THREE from 'three'
import { geometry } from '../../api/client'
import { tideColors } from '../../check/tide'
import type { Scene } from '../scene'
import { Layer } from './layer'
import type { ScanLayer } from './scan'
import { spread } from './scanBuffer'

export type TideSpec = {
  job: number
  key: string
  /** The result of the scan that is coloured. */
  scan: string
  /** A deviation with its faces, or an array of the result by its name. */
  of: { what: 'deviation' } | { what: 'also'; name: string }
  tolerance: number
  /** Full colour at this, mm; null: from the values themselves, told by `onReach`. */
  reach: number | null
}

const FAR_SHARE = 0.995
const LEAST = 0.002 // mm: below this, differences are rounding

export class TideLayer extends Layer<TideSpec> {
  private values: Float32Array | null = null
  private faces: Int32Array | null = null
  private names: string[] = []
  onReach: (reach: number) => void = () => {}
  constructor(
    scene: Scene,
    private readonly scan: ScanLayer,
  ) {
    super(scene)
  }

  async set(spec: TideSpec | null) {
    const still = this.newest()
    if (!spec || this.scan.spec?.key !== spec.scan || !this.scan.mesh) {
      if (this.values) this.scan.setColours(null)
      this.values = this.faces = null
      return
    }
    const name = spec.of.what === 'also' ? spec.of.name : undefined
    const b = await geometry(spec.job, spec.key, spec.of.what, spec.scan, name)
    if (!still() || this.scan.spec?.key !== spec.scan || !this.scan.mesh) return
    const on = this.scan.mesh.userData.buffers
    const raw = (spec.of.what === 'also' ? b.arrays.values : b.arrays.distance) as Float32Array
    this.values = spread(on, raw)
    this.faces = b.arrays.face ? spread(on, b.arrays.face as Int32Array) : null
    this.names = (b.header.names as string[] | undefined) ?? []
    let reach = spec.reach
    if (reach === null) {
      const size = Float32Array.from(raw, Math.abs).sort()
      reach = Math.max(size[Math.floor(size.length * FAR_SHARE)] ?? 0, LEAST)
      this.onReach(reach)
    }
    const tolerance = spec.reach === null ? reach * 0.1 : spec.tolerance
    this.scan.setColours(tideColors(this.values, tolerance, reach))
  }

  /** The value at a place hit on the scan, and the face that answered; null where nothing is coloured. */
  at(facet: number, place: THREE.Vector3): { value: number; face: string } | null {
    const mesh = this.scan.mesh
    if (!this.values || !mesh) return null
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
    return { value: this.values[best], face: this.faces ? (this.names[this.faces[best]] ?? '') : '' }
  }
  dispose() {
    this.values = this.faces = null
  }
}
