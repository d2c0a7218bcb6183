/** Places that can be dragged, as dots of one size on the screen, seen through everything. */
import * as THREE from 'three'
import { COLOURS } from '../stone'
import { Layer } from './layer'

const PIXELS = 11

export class HandlesLayer extends Layer<THREE.Vector3[]> {
  private dots: THREE.Points | null = null

  set(places: THREE.Vector3[] | null) {
    this.dispose()
    if (places?.length) {
      const g = new THREE.BufferGeometry().setFromPoints(places)
      const m = new THREE.PointsMaterial({
        color: COLOURS.saffron,
        size: PIXELS,
        sizeAttenuation: false,
        depthTest: false,
        transparent: true, // so that it is drawn after what is seen through
      })
      this.dots = new THREE.Points(g, m)
      this.dots.renderOrder = 50
      this.scene.world.add(this.dots)
    }
    this.scene.ask()
  }
  dispose() {
    if (this.dots) this.scene.world.remove(this.dots)
    this.dots = null
  }
}
