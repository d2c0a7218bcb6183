/** The model: its faces and edges, each known by its name. */
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import { geometry, type Buffers } from '../../api/client'
import type { EdgeName } from '../../api/types'
import { shineOf, type Shine } from '../shine'
import { COLOURS, stone } from '../stone'
import { Layer } from './layer'
import { originOf } from './scanBuffer'

export type BodySpec = {
  job: number
  id: string
  key: string
  visible: boolean
  ghost: boolean
  shine: Shine
}

const APART = { polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1 }

/** An edge of the body as it is drawn, in the view's coordinates. */
export type DrawnEdge = { name: EdgeName; points: THREE.Vector3[] }

export class BodyLayer extends Layer<BodySpec> {
  mesh: THREE.Mesh | null = null
  spec: BodySpec | null = null
  edges: DrawnEdge[] = []
  private lines: THREE.LineSegments | null = null
  /** Edges as last seen, by name: one that was rounded away can still be shown as picked. */
  private readonly known = new Map<string, DrawnEdge>()
  private faceIds: Uint32Array | null = null
  private faceNames: string[] = []
  private shine: Shine = 'matt'

  override extent() {
    return this.mesh ? [this.mesh] : []
  }

  async set(spec: BodySpec | null) {
    const still = this.newest()
    if (!spec) {
      this.dispose()
      this.spec = null
      return this.scene.ask()
    }
    if (!this.mesh || this.spec?.key !== spec.key) {
      const b = await geometry(spec.job, spec.key, 'body')
      if (!still()) return
      this.dispose()
      this.build(b)
    }
    if (spec.shine !== this.shine) this.dress(spec.shine)
    this.spec = spec
    const m = this.mesh!.material as THREE.MeshLambertMaterial
    this.mesh!.visible = this.lines!.visible = spec.visible
    if (m.transparent !== spec.ghost) m.needsUpdate = true
    const ghost = spec.ghost && spec.shine === 'matt'
    Object.assign(m, { transparent: ghost, opacity: ghost ? 0.35 : 1, depthWrite: !ghost })
    this.scene.ask()
  }

  private dress(shine: Shine) {
    this.shine = shine
    this.mesh!.material = shineOf(shine) ?? stone(COLOURS.slate, APART)
  }

  private build(b: Buffers) {
    this.shine = 'matt'
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(b.arrays.positions as Float32Array, 3))
    g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
    g.setIndex(new THREE.BufferAttribute((b.arrays.indices as Uint32Array).slice(), 1))
    g.boundsTree = new MeshBVH(g, { indirect: true })
    this.mesh = new THREE.Mesh(g, stone(COLOURS.slate, APART))
    const origin = originOf(b)
    this.mesh.position.copy(origin)
    this.faceIds = b.arrays.face_ids as Uint32Array
    this.faceNames = b.header.face_names as string[]
    const starts = b.arrays.edge_starts as Uint32Array
    const at = b.arrays.edge_points as Float32Array
    this.edges = (b.header.edge_names as EdgeName[]).map((name, i) => {
      const points = []
      for (let k = starts[i]; k < starts[i + 1]; k++)
        points.push(new THREE.Vector3(at[3 * k], at[3 * k + 1], at[3 * k + 2]).add(origin))
      return { name, points }
    })
    for (const e of this.edges) this.known.set(e.name.join('|'), e)
    const segments = this.edges.flatMap((e) => e.points.slice(1).flatMap((p, k) => [e.points[k], p]))
    const lines = new THREE.BufferGeometry().setFromPoints(segments)
    this.lines = new THREE.LineSegments(lines, new THREE.LineBasicMaterial({ color: COLOURS.ink }))
    this.scene.world.add(this.mesh, this.lines)
  }

  /** The face a facet belongs to. */
  faceAt(facet: number): string | null {
    return this.faceIds ? (this.faceNames[this.faceIds[facet]] ?? null) : null
  }
  /** The facets of a face, as corners. */
  cornersOf(name: string): Uint32Array {
    const index = this.mesh!.geometry.getIndex()!.array as Uint32Array
    const id = this.faceNames.indexOf(name)
    const out: number[] = []
    this.faceIds!.forEach((f, k) => f === id && out.push(index[3 * k], index[3 * k + 1], index[3 * k + 2]))
    return Uint32Array.from(out)
  }
  edgeCalled(name: readonly (string | number)[]): DrawnEdge | undefined {
    const label = name.join('|')
    return this.edges.find((e) => e.name.join('|') === label) ?? this.known.get(label)
  }

  dispose() {
    for (const o of [this.mesh, this.lines]) {
      if (!o) continue
      this.scene.world.remove(o)
      o.geometry.dispose()
    }
    this.mesh = this.lines = this.faceIds = null
    this.edges = []
  }
}
