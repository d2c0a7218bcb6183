/** The scan that is worked on: a mesh or a cloud, its triangles' edges, and the colours laid over it. */
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import type { Matrix } from '../../api/types'
import { COLOURS, matrix4 } from '../stone'
import { Layer } from './layer'
import { fetchScan, paint, placeScan, scanObject } from './scanBuffer'

export type ScanSpec = {
  job: number
  id: string
  key: string
  colour: number
  matrix: Matrix | null
  /** Without slab and scraps. */
  part: boolean
  visible: boolean
  edges: boolean
  colours: boolean
}

// Pushed back a little, so that model and scan do not flicker through each other where they agree.
const BEHIND = { polygonOffset: true, polygonOffsetFactor: 3, polygonOffsetUnits: 60 }

export class ScanLayer extends Layer<ScanSpec> {
  mesh: THREE.Mesh | null = null
  points: THREE.Points | null = null
  spec: ScanSpec | null = null
  private wire: THREE.LineSegments | null = null
  private colours: Uint8Array | null = null
  /** Told when another scan is there, so that what lies on it is drawn anew. */
  onNew: () => void = () => {}

  get object() {
    return this.mesh ?? this.points
  }
  override extent() {
    return this.object ? [this.object] : []
  }

  async set(spec: ScanSpec | null) {
    const still = this.newest()
    const same =
      spec && this.spec && spec.key === this.spec.key && spec.part === this.spec.part && this.object
    if (!spec) {
      this.clear()
      this.spec = null
      this.scene.ask()
      return
    }
    if (!same) {
      const b = await fetchScan(spec.job, spec.key, spec.part)
      if (!still()) return
      this.clear()
      const o = scanObject(b, spec.colour, BEHIND)
      if (o instanceof THREE.Mesh) {
        o.geometry.boundsTree = new MeshBVH(o.geometry, { indirect: true })
        this.mesh = o
      } else this.points = o
      this.scene.world.add(o)
    }
    this.spec = spec
    const o = this.object!
    o.userData.colour = spec.colour
    this.recolour()
    placeScan(o, matrix4(spec.matrix))
    o.visible = spec.visible
    this.setWire(spec.edges)
    this.scene.ask()
    if (!same) this.onNew()
  }

  /** Colours by vertex as drawn, or none: its own, or its stone's. */
  setColours(colours: Uint8Array | null) {
    this.colours = colours
    this.recolour()
    this.scene.ask()
  }
  private recolour() {
    if (this.object) paint(this.object, this.colours, this.spec?.colours ?? false)
  }

  /** Triangle edges over the scan. */
  private setWire(on: boolean) {
    if (!on || !this.mesh) {
      if (this.wire) this.scene.world.remove(this.wire)
      this.wire = null
      return
    }
    if (!this.wire) {
      const material = new THREE.LineBasicMaterial({ color: COLOURS.ink, transparent: true, opacity: 0.28 })
      this.wire = new THREE.LineSegments(new THREE.WireframeGeometry(this.mesh.geometry), material)
      this.wire.matrixAutoUpdate = false
      this.scene.world.add(this.wire)
    }
    this.wire.matrix.copy(this.mesh.matrix)
    this.wire.matrixWorldNeedsUpdate = true
    this.wire.visible = this.mesh.visible
  }

  private clear() {
    for (const o of [this.mesh, this.points, this.wire]) {
      if (!o) continue
      this.scene.world.remove(o)
      o.geometry.dispose()
    }
    this.mesh = this.points = this.wire = null
    this.colours = null
  }
  dispose() {
    this.clear()
  }
}
