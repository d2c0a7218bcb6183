/** Scans shown beside the one worked on, each where it lies. */
import * as THREE from 'three'
import type { Matrix } from '../../api/types'
import { matrix4 } from '../stone'
import { Layer } from './layer'
import { fetchScan, paint, placeScan, scanObject } from './scanBuffer'

export type BesideSpec = {
  job: number
  id: string
  key: string
  colour: number
  matrix: Matrix | null
  part: boolean
}

export class BesideLayer extends Layer<BesideSpec[]> {
  readonly objects = new Map<string, THREE.Mesh | THREE.Points>()
  /** Told when other scans are there than before. */
  onNew: () => void = () => {}

  override extent() {
    return [...this.objects.values()]
  }

  async set(specs: BesideSpec[] | null) {
    const list = specs ?? []
    const still = this.newest()
    for (const [id, o] of this.objects)
      if (!list.some((s) => s.id === id)) {
        this.scene.world.remove(o)
        this.objects.delete(id)
      }
    const buffers = await Promise.all(list.map((s) => fetchScan(s.job, s.key, s.part)))
    if (!still()) return
    let fresh = false
    list.forEach((s, k) => {
      let o = this.objects.get(s.id)
      if (!o || o.userData.buffers !== buffers[k]) {
        if (o) this.scene.world.remove(o)
        o = scanObject(buffers[k], s.colour)
        this.scene.world.add(o)
        this.objects.set(s.id, o)
        fresh = true
      }
      placeScan(o, matrix4(s.matrix))
    })
    this.scene.ask()
    if (fresh) this.onNew()
  }

  /** Colours by vertex of each scan, or its stone's. */
  setColours(of: (id: string) => Uint8Array | null) {
    for (const [id, o] of this.objects) paint(o, of(id), true)
    this.scene.ask()
  }
  dispose() {
    for (const o of this.objects.values()) this.scene.world.remove(o)
    this.objects.clear()
  }
}
