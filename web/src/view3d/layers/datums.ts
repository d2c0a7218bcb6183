/** Datums and cutting planes: planes as thin sheets, axes as lines. */
import * as THREE from 'three'
import { COLOURS, type Colour } from '../stone'
import { Layer } from './layer'

export type DatumSpec =
  | { id: string; plane: { origin: THREE.Vector3; normal: THREE.Vector3; size: number }; colour: Colour }
  | { id: string; point: { at: THREE.Vector3; size: number }; colour: Colour }
  | { id: string; rim: THREE.Vector3[]; colour: Colour }
  | { id: string; axis: { point: THREE.Vector3; direction: THREE.Vector3; length: number }; colour: Colour }

const UP = new THREE.Vector3(0, 0, 1)

export class DatumsLayer extends Layer<DatumSpec[]> {
  readonly group = new THREE.Group()
  /** Each datum's object by its id; planes are meshes, axes lines. */
  readonly objects = new Map<string, THREE.Mesh | THREE.Line>()

  set(list: DatumSpec[] | null) {
    this.dispose()
    for (const d of list ?? []) {
      const o =
        'plane' in d
          ? sheet(d.plane, COLOURS[d.colour])
          : 'point' in d
            ? cross(d.point, COLOURS[d.colour])
            : 'rim' in d
              ? rim(d.rim, COLOURS[d.colour])
              : axis(d.axis, COLOURS[d.colour])
      if (d.id) this.objects.set(d.id, o)
      this.group.add(o)
    }
    this.scene.world.add(this.group)
    this.scene.ask()
  }
  dispose() {
    for (const o of this.group.children) (o as THREE.Mesh).geometry.dispose()
    this.group.clear()
    this.objects.clear()
  }
}

function sheet(p: { origin: THREE.Vector3; normal: THREE.Vector3; size: number }, color: number) {
  const look = { color, transparent: true, opacity: 0.16, side: THREE.DoubleSide, depthWrite: false }
  const m = new THREE.Mesh(new THREE.PlaneGeometry(p.size, p.size), new THREE.MeshBasicMaterial(look))
  m.quaternion.setFromUnitVectors(UP, p.normal)
  m.position.copy(p.origin)
  m.renderOrder = 2
  return m
}
function axis(a: { point: THREE.Vector3; direction: THREE.Vector3; length: number }, color: number) {
  const ends = [-1, 1].map((k) => a.point.clone().addScaledVector(a.direction, k * a.length))
  const look = new THREE.LineBasicMaterial({ color, depthTest: false })
  const line = new THREE.Line(new THREE.BufferGeometry().setFromPoints(ends), look)
  line.renderOrder = 3
  return line
}
function rim(points: THREE.Vector3[], color: number) {
  const look = new THREE.LineBasicMaterial({ color, depthTest: false })
  const line = new THREE.LineLoop(new THREE.BufferGeometry().setFromPoints(points), look)
  line.renderOrder = 3
  return line
}
/** A point as three short strokes through it. */
function cross(p: { at: THREE.Vector3; size: number }, color: number) {
  const ends = [0, 1, 2].flatMap((k) =>
    [-1, 1].map((s) => p.at.clone().setComponent(k, p.at.getComponent(k) + s * p.size)),
  )
  const look = new THREE.LineBasicMaterial({ color, depthTest: false })
  const o = new THREE.LineSegments(new THREE.BufferGeometry().setFromPoints(ends), look)
  o.renderOrder = 3
  return o
}
