/** The surfaces a scan was split into, each in its own tone: one hue a kind, lighter and darker by turns. */
import * as THREE from 'three'
import { geometry } from '../../api/client'
import { COLOURS, stone } from '../stone'
import type { Scene } from '../scene'
import { Layer } from './layer'
import type { ScanLayer } from './scan'

export type ZonesSpec = {
  job: number
  key: string
  scan: string
  kinds: string[]
  /** Of these, drawn in saffron. */
  chosen: number[]
}

/** Hue and saturation by kind; free surfaces keep nearly no colour. */
const HUES: { [kind: string]: [number, number] } = {
  plane: [38, 26],
  cylinder: [182, 30],
  cone: [268, 20],
  sphere: [340, 26],
  torus: [96, 22],
  freeform: [30, 4],
}
const LIGHT = [62, 52, 70, 57, 66]

export class ZonesLayer extends Layer<ZonesSpec> {
  private object: THREE.Mesh | null = null
  private labels: Float32Array | null = null
  constructor(
    scene: Scene,
    private readonly scan: ScanLayer,
  ) {
    super(scene)
  }

  /** Which surface a shown facet belongs to; none: -1. */
  at(facet: number): number {
    return this.object?.visible && this.labels ? (this.labels[facet] ?? -1) : -1
  }

  async set(spec: ZonesSpec | null) {
    const still = this.newest()
    if (!spec || !this.scan.mesh) return this.dispose()
    const b = await geometry(spec.job, spec.key, 'also', spec.scan, 'labels')
    if (!still() || !this.scan.mesh) return
    this.dispose()
    this.labels = b.arrays.values as Float32Array
    const g = this.scan.mesh.geometry.clone().toNonIndexed()
    const colours = new Uint8Array(g.getAttribute('position').count * 3)
    const tones = spec.kinds.map((kind, i) => tone(kind, i, spec.chosen.includes(i)))
    const none = tone('freeform', 1, false)
    this.labels.forEach((k, f) => {
      const c = k < 0 ? none : (tones[k] ?? none)
      for (let v = 0; v < 3; v++) colours.set(c, 9 * f + 3 * v)
    })
    g.setAttribute('color', new THREE.BufferAttribute(colours, 3, true))
    const before = { polygonOffset: true, polygonOffsetFactor: 2, polygonOffsetUnits: 45, vertexColors: true }
    this.object = new THREE.Mesh(g, stone(0xffffff, before))
    this.object.matrixAutoUpdate = false
    this.object.matrix.copy(this.scan.mesh.matrix)
    this.object.visible = this.scan.mesh.visible
    this.scene.world.add(this.object)
    this.scene.ask()
  }
  dispose() {
    if (this.object) {
      this.scene.world.remove(this.object)
      this.object.geometry.dispose()
      this.scene.ask()
    }
    this.object = null
    this.labels = null
  }
}

function tone(kind: string, i: number, chosen: boolean): [number, number, number] {
  const [hue, much] = HUES[kind] ?? HUES.freeform
  const c = chosen
    ? new THREE.Color(COLOURS.saffron)
    : new THREE.Color().setHSL(hue / 360, much / 100, LIGHT[i % LIGHT.length] / 100)
  return [c.r, c.g, c.b].map((v) => Math.round(255 * Math.min(1, Math.max(0, v)))) as [number, number, number]
}
