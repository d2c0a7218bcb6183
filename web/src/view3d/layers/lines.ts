/** Lines in the view: traces, rims, curves, handles' crosses, edges in hand. */
import * as THREE from 'three'
import { COLOURS, type Colour } from '../stone'
import { Layer } from './layer'

export type Line = {
  points: THREE.Vector3[]
  closed?: boolean
  colour: Colour
  /** Drawn over what lies before it. */
  through?: boolean
  /** What it is called where it can be picked. */
  tag?: string
}

export class LinesLayer extends Layer<Line[]> {
  readonly group = new THREE.Group()
  lines: Line[] = []

  set(lines: Line[] | null) {
    this.dispose()
    this.lines = lines ?? []
    for (const l of this.lines) {
      if (l.points.length < 2) continue
      const points = l.closed ? [...l.points, l.points[0]] : l.points
      const material = new THREE.LineBasicMaterial({ color: COLOURS[l.colour], depthTest: !l.through })
      const line = new THREE.Line(new THREE.BufferGeometry().setFromPoints(points), material)
      line.renderOrder = 3
      this.group.add(line)
    }
    this.scene.world.add(this.group)
    this.scene.ask()
  }
  dispose() {
    for (const o of this.group.children) (o as THREE.Line).geometry.dispose()
    this.group.clear()
    this.lines = []
  }
}
