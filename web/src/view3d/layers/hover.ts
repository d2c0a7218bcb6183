/** What lies under the pointer, lit: only what would be taken. */
import * as THREE from 'three'
import type { Under } from '../picking'
import type { Scene } from '../scene'
import { COLOURS } from '../stone'
import type { BodyLayer } from './body'
import type { DatumsLayer } from './datums'
import { Layer } from './layer'

const LINE = new THREE.LineBasicMaterial({ color: COLOURS.saffron, depthTest: false })

export class HoverLayer extends Layer<Under> {
  private object: THREE.Object3D | null = null
  private label = ''
  constructor(
    scene: Scene,
    private readonly body: BodyLayer,
    private readonly datums: DatumsLayer,
  ) {
    super(scene)
  }

  set(at: Under | null) {
    const label = this.labelOf(at)
    if (label === this.label) return
    this.dispose()
    this.label = label
    this.object = at && label ? this.drawn(at) : null
    if (this.object) {
      this.object.renderOrder = 4
      this.scene.world.add(this.object)
    }
    this.scene.ask()
  }
  private labelOf(at: Under | null): string {
    if (!at) return ''
    if (at.what === 'edge') return `edge ${at.name.join('|')}`
    if (at.what === 'face') return `face ${at.name}`
    if (at.what === 'vertex') return `vertex ${at.shown.join()}`
    if (at.what === 'datum') return `datum ${at.id}`
    if (at.what === 'loop') return `loop ${at.sketch} ${at.entity}`
    return ''
  }
  private drawn(at: Under): THREE.Object3D | null {
    if (at.what === 'edge') return this.line(this.body.edgeCalled(at.name)?.points ?? [])
    if (at.what === 'loop') return this.line(at.points)
    if (at.what === 'vertex') {
      const g = new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(...at.shown)])
      const look = { color: COLOURS.saffron, size: 9, sizeAttenuation: false, depthTest: false }
      return new THREE.Points(g, new THREE.PointsMaterial(look))
    }
    if (at.what === 'face' && this.body.mesh) {
      const g = new THREE.BufferGeometry()
      g.setAttribute('position', this.body.mesh.geometry.getAttribute('position'))
      g.setIndex(new THREE.BufferAttribute(this.body.cornersOf(at.name), 1))
      const look = { color: COLOURS.saffron, transparent: true, opacity: 0.35, side: THREE.DoubleSide }
      const o = new THREE.Mesh(g, new THREE.MeshBasicMaterial({ ...look, depthWrite: false }))
      o.position.copy(this.body.mesh.position)
      return o
    }
    if (at.what === 'datum') {
      const o = this.datums.objects.get(at.id)
      if (o instanceof THREE.Mesh) {
        const edges = new THREE.LineSegments(new THREE.EdgesGeometry(o.geometry), LINE)
        edges.position.copy(o.position)
        edges.quaternion.copy(o.quaternion)
        return edges
      }
      return o ? new THREE.Line(o.geometry.clone(), LINE) : null
    }
    return null
  }
  private line(points: THREE.Vector3[]) {
    return points.length > 1 ? new THREE.Line(new THREE.BufferGeometry().setFromPoints(points), LINE) : null
  }
  dispose() {
    if (this.object) this.scene.world.remove(this.object)
    this.object = null
    this.label = ''
  }
}
