/** Facets or points of the scan that are lit: picked, marked, about to go, or added. */
import * as THREE from 'three'
import { COLOURS, stone } from '../stone'
import { Layer } from './layer'
import type { ScanLayer } from './scan'
import type { Scene } from '../scene'

export type LitSpec = { facets: Uint32Array; tone: 'picked' | 'goes' | 'added' }

export class LitLayer extends Layer<LitSpec> {
  object: THREE.Mesh | THREE.Points | null = null
  constructor(
    scene: Scene,
    private readonly scan: ScanLayer,
  ) {
    super(scene)
  }

  set(spec: LitSpec | null) {
    this.dispose()
    const { mesh, points } = this.scan
    const colour = spec?.tone === 'goes' ? COLOURS.brick : COLOURS.saffron
    if (spec?.facets.length && mesh) {
      const index = mesh.geometry.getIndex()!.array as Uint32Array
      const some = new Uint32Array(spec.facets.length * 3)
      spec.facets.forEach((f, i) => some.set(index.subarray(3 * f, 3 * f + 3), 3 * i))
      const g = new THREE.BufferGeometry()
      for (const name of ['position', 'normal']) g.setAttribute(name, mesh.geometry.getAttribute(name))
      g.setIndex(new THREE.BufferAttribute(some, 1))
      const before = { polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 30 }
      this.object = new THREE.Mesh(g, stone(colour, before))
    } else if (spec?.facets.length && points) {
      const from = points.geometry.getAttribute('position').array as Float32Array
      const some = new Float32Array(spec.facets.length * 3)
      spec.facets.forEach((f, i) => some.set(from.subarray(3 * f, 3 * f + 3), 3 * i))
      const g = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(some, 3))
      this.object = new THREE.Points(
        g,
        new THREE.PointsMaterial({ color: colour, size: 3.4, sizeAttenuation: false }),
      )
      this.object.renderOrder = 2
    }
    const on = this.scan.object
    if (this.object && on) {
      this.object.matrixAutoUpdate = false
      this.object.matrix.copy(on.matrix)
      this.object.visible = on.visible
      this.scene.world.add(this.object)
    }
    this.scene.ask()
  }
  dispose() {
    if (this.object) this.scene.world.remove(this.object)
    this.object = null
  }
}
