/** Bodies that stand beside the one worked on, each in its own colour. */
import * as THREE from 'three'
import { geometry } from '../../api/client'
import { COLOURS, stone } from '../stone'
import { Layer } from './layer'
import { originOf } from './scanBuffer'

export type BodiesSpec = { job: number; id: string; key: string; colour: number }

export class BodiesLayer extends Layer<BodiesSpec[]> {
  readonly objects = new Map<string, THREE.Group>()

  override extent() {
    return [...this.objects.values()].map((g) => g.children[0] as THREE.Mesh)
  }

  async set(specs: BodiesSpec[] | null) {
    const list = specs ?? []
    const still = this.newest()
    const buffers = await Promise.all(list.map((s) => geometry(s.job, s.key, 'body')))
    if (!still()) return
    for (const [id, o] of this.objects)
      if (!list.some((s) => s.id === id && s.key === o.userData.key && s.colour === o.userData.colour)) {
        this.scene.world.remove(o)
        this.objects.delete(id)
      }
    list.forEach((s, k) => {
      if (this.objects.has(s.id)) return
      const { arrays } = buffers[k]
      const g = new THREE.BufferGeometry()
      g.setAttribute('position', new THREE.BufferAttribute(arrays.positions as Float32Array, 3))
      g.setAttribute('normal', new THREE.BufferAttribute(arrays.normals as Float32Array, 3))
      g.setIndex(new THREE.BufferAttribute((arrays.indices as Uint32Array).slice(), 1))
      const apart = { polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1 }
      const starts = arrays.edge_starts as Uint32Array
      const at = arrays.edge_points as Float32Array
      const points: number[] = []
      for (let i = 0; i + 1 < starts.length; i++)
        for (let n = starts[i]; n + 1 < starts[i + 1]; n++) points.push(...at.subarray(3 * n, 3 * n + 6))
      const lines = new THREE.BufferGeometry()
      lines.setAttribute('position', new THREE.Float32BufferAttribute(points, 3))
      const whole = new THREE.Group()
      whole.add(
        new THREE.Mesh(g, stone(s.colour, apart)),
        new THREE.LineSegments(lines, new THREE.LineBasicMaterial({ color: COLOURS.ink })),
      )
      whole.position.copy(originOf(buffers[k]))
      Object.assign(whole.userData, { key: s.key, colour: s.colour })
      this.scene.world.add(whole)
      this.objects.set(s.id, whole)
    })
    this.scene.ask()
  }
  dispose() {
    for (const o of this.objects.values()) this.scene.world.remove(o)
    this.objects.clear()
  }
}
