/** Scans lying together, each coloured by how far it lies from what the others saw there. */
import { geometry } from '../../api/client'
import { tideColors } from '../../check/tide'
import type { Scene } from '../scene'
import type { BesideLayer } from './beside'
import { Layer } from './layer'
import type { ScanLayer } from './scan'
import { spread } from './scanBuffer'

export type StrainSpec = { job: number; key: string; rms: number; scans: { id: string; key: string }[] }

const FAR_SHARE = 0.98
const LEAST = 0.002 // mm

export class StrainLayer extends Layer<StrainSpec> {
  private on = false
  onReach: (reach: number) => void = () => {}
  constructor(
    scene: Scene,
    private readonly scan: ScanLayer,
    private readonly beside: BesideLayer,
  ) {
    super(scene)
  }

  async set(spec: StrainSpec | null) {
    const still = this.newest()
    if (!spec) {
      if (this.on) {
        this.scan.setColours(null)
        this.beside.setColours(() => null)
      }
      this.on = false
      return
    }
    const found = await Promise.all(
      spec.scans.map(async (s) => {
        const b = await geometry(spec.job, spec.key, 'also', s.key, `apart_${s.id}`)
        return [s.id, (b.arrays.values as Float32Array).map(Math.abs)] as [string, Float32Array]
      }),
    )
    if (!still()) return
    const by = new Map(found)
    const size = Float32Array.from(found.flatMap(([, v]) => Array.from(v).filter(Number.isFinite))).sort()
    const reach = Math.max(size[Math.floor(size.length * FAR_SHARE)] ?? 0, LEAST)
    this.onReach(reach)
    const within = Math.min(0.5 * spec.rms, 0.5 * reach)
    const colours = (id: string | undefined, o: { userData: Record<string, unknown> } | null | undefined) => {
      const values = id && o ? by.get(id) : null
      return values ? tideColors(spread(o!.userData.buffers as never, values), within, reach) : null
    }
    this.on = true
    this.scan.setColours(colours(this.scan.spec?.id, this.scan.object))
    this.beside.setColours((id) => colours(id, this.beside.objects.get(id)))
  }
  dispose() {
    this.on = false
  }
}
