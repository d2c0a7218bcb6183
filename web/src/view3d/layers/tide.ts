/** An array of a result as the tide's colours, on the scan: what moved, what lies apart. */
import * as THREE from 'three'
import { geometry } from '../../api/client'
import { fullAt, tideColors } from '../../check/tide'
import type { Scene } from '../scene'
import type { OwnTide } from '../plan'
import { Layer } from './layer'
import type { ScanLayer } from './scan'
import { nearestCorner, spread } from './scanBuffer'

export type TideSpec = {
  job: number
  key: string
  /** The result of the scan that is coloured. */
  scan: string
  /** The array by its name; its own values say where colour is full, told by `onReach`. */
  name: string
  own?: OwnTide
}

export class TideLayer extends Layer<TideSpec> {
  private values: Float32Array | null = null
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
      this.values = null
      return
    }
    if (spec.own) {
      const { values, band, full } = spec.own
      this.values = spread(this.scan.mesh.userData.buffers, values)
      this.onReach(full)
      this.scan.setColours(tideColors(this.values, band, full))
      return
    }
    const b = await geometry(spec.job, spec.key, 'also', spec.scan, spec.name)
    if (!still() || this.scan.spec?.key !== spec.scan || !this.scan.mesh) return
    const on = this.scan.mesh.userData.buffers
    const raw = b.arrays.values as Float32Array
    this.values = spread(on, raw)
    const reach = fullAt(raw)
    this.onReach(reach)
    this.scan.setColours(tideColors(this.values, reach * 0.1, reach))
  }

  /** The value at a place hit on the scan; null where nothing is coloured. */
  at(facet: number, place: THREE.Vector3): { value: number; face: string } | null {
    const mesh = this.scan.mesh
    if (!this.values || !mesh) return null
    const best = nearestCorner(mesh, facet, place)
    return { value: this.values[best], face: '' }
  }
  dispose() {
    this.values = null
  }
}
