/** A view with all its layers: what is drawn in which order, and what of it can be picked. */
import * as THREE from 'three'
import type { Vec3 } from '../api/types'
import { BesideLayer } from './layers/beside'
import { BodiesLayer } from './layers/bodies'
import { BodyLayer } from './layers/body'
import { DatumsLayer } from './layers/datums'
import { DeviationLayer } from './layers/deviation'
import { HoverLayer } from './layers/hover'
import { HandlesLayer } from './layers/handles'
import { LinesLayer } from './layers/lines'
import { LitLayer } from './layers/lit'
import { ScanLayer } from './layers/scan'
import { StrainLayer } from './layers/strain'

import { TideLayer } from './layers/tide'
import { ZonesLayer } from './layers/zones'

import { Scene } from './scene'
import { matrix4 } from './stone'

export type DrawnLoop = { sketch: string; entity: string; points: THREE.Vector3[] }

export class Viewer extends Scene {
  readonly layers
  /** Places that can be dragged, and loops that can be picked, in the view's coordinates. */
  handles: THREE.Vector3[] = []
  loops: DrawnLoop[] = []

  constructor(canvas: HTMLCanvasElement) {
    super(canvas)
    const scan = new ScanLayer(this)
    const beside = new BesideLayer(this)
    const body = new BodyLayer(this)
    const datums = new DatumsLayer(this)
    this.layers = {
      scan,
      bodies: new BodiesLayer(this),
      beside,
      body,
      datums,
      lit: new LitLayer(this, scan),
      tide: new TideLayer(this, scan),
      deviation: new DeviationLayer(this),
      zones: new ZonesLayer(this, scan),
      strain: new StrainLayer(this, scan, beside),
      lines: new LinesLayer(this),
      handles: new HandlesLayer(this),
      hover: new HoverLayer(this, body, datums),
    }
    this.extent = () => Object.values(this.layers).flatMap((l) => l.extent())
  }

  /** Where the scan's own coordinates lie in the view. */
  get scanMotion() {
    return matrix4(this.layers.scan.spec?.matrix)
  }
  toScan(p: THREE.Vector3) {
    return p.clone().applyMatrix4(this.scanMotion.invert())
  }
  fromScan(p: number[]) {
    return new THREE.Vector3(p[0], p[1], p[2]).applyMatrix4(this.scanMotion)
  }

  /**
   * The place of the scan that a dot is dragged to along a direction of the scan: the nearest to what the
   * pointer looks along.
   */
  along(handle: number, way: Vec3, x: number, y: number): Vec3 {
    const { origin, direction: sight } = this.ray(x, y).ray
    const d = new THREE.Vector3(...way).transformDirection(this.scanMotion)
    const start = this.handles[handle]
    const apart = origin.clone().sub(start)
    const both = d.dot(sight)
    const across = Math.max(1 - both * both, 1e-9)
    const far = (apart.dot(d) - both * apart.dot(sight)) / across
    return this.toScan(start.clone().addScaledVector(d, far)).toArray() as Vec3
  }

  override dispose() {
    for (const l of Object.values(this.layers)) l.dispose()
    super.dispose()
  }

  // What is drawn, for whoever steers the view from outside.
  get scan() {
    return this.layers.scan.mesh
  }
  get points() {
    return this.layers.scan.points
  }
  get body() {
    return this.layers.body.mesh
  }
  get others() {
    return this.layers.beside.objects
  }
  get lit() {
    return this.layers.lit.object
  }
}
