/**
 * A deviation as it was measured, on facets of its own: on the scan, on the model, or of two checks. Parts
 * can be lit, which pales the others; what no scan supports is hatched.
 */
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import { geometry, type Buffers } from '../../api/client'
import type { Matrix } from '../../api/types'
import { tideColors } from '../../check/tide'
import { matrix4, stone } from '../stone'
import { Layer } from './layer'
import { dots, facets, nearestCorner, originOf, placeScan, spread } from './scanBuffer'

export type DeviationSpec = {
  job: number
  key: string
  what: 'tide' | 'faith' | 'difference'
  /** The scan it was measured on, by its key, and what else names the buffer. */
  scan: string | null
  name: string
  matrix: Matrix | null
  /** Allowed outward and inward, and where colour is full, mm. */
  high: number
  low: number
  reach: number
  /** Names of parts that are lit; none: all alike. */
  lit: string[] | null
}

const PALE = 0.22 // of its colour that a part keeps while others are lit
const GROUND = 0.86

/** Stripes over the screen where there is no value. */
function hatched(m: THREE.MeshLambertMaterial) {
  m.onBeforeCompile = (shader) => {
    shader.vertexShader = shader.vertexShader
      .replace('#include <common>', '#include <common>\nattribute float bare;\nvarying float vBare;')
      .replace('#include <begin_vertex>', '#include <begin_vertex>\nvBare = bare;')
    shader.fragmentShader = shader.fragmentShader
      .replace('#include <common>', '#include <common>\nvarying float vBare;')
      .replace(
        '#include <color_fragment>',
        '#include <color_fragment>\nif (vBare > 0.5 && mod(gl_FragCoord.x + gl_FragCoord.y, 9.0) < 2.2) diffuseColor.rgb *= 0.45;',
      )
  }
  return m
}

export class DeviationLayer extends Layer<DeviationSpec> {
  object: THREE.Mesh | THREE.Points | null = null
  private spec: DeviationSpec | null = null
  private values: Float32Array | null = null
  private parts: Int32Array | null = null
  names: string[] = []

  override extent() {
    return this.object ? [this.object] : []
  }
  get mesh() {
    return this.object instanceof THREE.Mesh ? this.object : null
  }

  async set(spec: DeviationSpec | null) {
    const still = this.newest()
    if (!spec) return this.dispose()
    const known = this.spec
    const same = known && ['key', 'what', 'scan', 'name'].every((k) => known[k as 'key'] === spec[k as 'key'])
    if (!same || !this.object) {
      const b = await geometry(spec.job, spec.key, spec.what, spec.scan ?? undefined, spec.name || undefined)
      if (!still()) return
      this.dispose()
      this.build(b)
    }
    this.spec = spec
    placeScan(this.object!, matrix4(spec.matrix))
    this.colour()
    this.scene.ask()
  }

  private build(b: Buffers) {
    this.values = spread(b, b.arrays.distance as Float32Array)
    this.parts = b.arrays.face ? spread(b, b.arrays.face as Int32Array) : null
    this.names = (b.header.names as string[] | undefined) ?? []
    if (b.arrays.indices) {
      const g = facets(b)
      g.boundsTree = new MeshBVH(g, { indirect: true })
      g.setAttribute(
        'bare',
        new THREE.BufferAttribute(
          Float32Array.from(this.values, (v) => +!Number.isFinite(v)),
          1,
        ),
      )
      this.object = new THREE.Mesh(g, hatched(stone(0xffffff, { vertexColors: true })))
    } else {
      this.object = dots(b, 0xffffff)
      Object.assign(this.object.material, { vertexColors: true, size: 3 })
    }
    this.object.matrixAutoUpdate = false
    this.object.userData = { origin: originOf(b) }
    this.scene.world.add(this.object)
  }

  private colour() {
    const { high, low, reach, lit } = this.spec!
    const colours = tideColors(this.values!, high, reach, low)
    if (lit && this.parts) {
      const on = this.names.map((n) => lit.includes(n))
      this.parts.forEach((p, i) => {
        if (p >= 0 && on[p]) return
        for (let k = 0; k < 3; k++) colours[3 * i + k] = PALE * colours[3 * i + k] + (1 - PALE) * 255 * GROUND
      })
    }
    this.object!.geometry.setAttribute('color', new THREE.BufferAttribute(colours, 3, true))
  }

  /** What was measured at a place hit on it. */
  at(facet: number, place: THREE.Vector3): { value: number; face: string } | null {
    const mesh = this.mesh
    if (!mesh || !this.values) return null
    const best = nearestCorner(mesh, facet, place)
    return { value: this.values[best], face: this.names[this.parts?.[best] ?? -1] ?? '' }
  }

  dispose() {
    if (this.object) {
      this.scene.world.remove(this.object)
      this.object.geometry.dispose()
    }
    this.object = this.values = this.parts = this.spec = null
    this.scene.ask()
  }
}
