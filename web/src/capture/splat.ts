/** Points drawn as they lie: nearest in front, shaded by how near, what came last in its own colour. */
import type { Camera } from './camera'

export type Colours = { near: number[]; far: number[]; fresh: number[]; image: number[] }
export type Mirror = { point: number[]; normal: number[] }

/** The picture's bytes and, for each pixel, how near what is drawn there lies. */
export class Splat {
  private near = new Float32Array(0)
  constructor(
    readonly image: ImageData,
    readonly camera: Camera,
    readonly reach: number,
  ) {
    this.near = new Float32Array(image.width * image.height).fill(-Infinity)
  }

  /** `from`: the first that came last. With a mirror: drawn as their image in it. */
  points(flat: Float32Array, count: number, from: number, colours: Colours, mirror: Mirror | null = null) {
    const { right: r, up: u, toward: t, middle: m, scale: s } = this.camera
    const { width: w, height: h, data } = this.image
    const [q, n] = [mirror?.point ?? m, mirror?.normal ?? m]
    for (let i = 0; i < count; i++) {
      let x = flat[3 * i]
      let y = flat[3 * i + 1]
      let z = flat[3 * i + 2]
      if (mirror) {
        const k = 2 * ((x - q[0]) * n[0] + (y - q[1]) * n[1] + (z - q[2]) * n[2])
        x -= k * n[0]
        y -= k * n[1]
        z -= k * n[2]
      }
      x -= m[0]
      y -= m[1]
      z -= m[2]
      const px = Math.round(w / 2 + s * (r[0] * x + r[1] * y + r[2] * z))
      const py = Math.round(h / 2 - s * (u[0] * x + u[1] * y + u[2] * z))
      if (px < 0 || py < 0 || px >= w - 1 || py >= h - 1) continue
      const near = t[0] * x + t[1] * y + t[2] * z
      const share = Math.min(Math.max(0.5 + (0.5 * near) / this.reach, 0), 1)
      const to = mirror ? colours.image : i >= from ? colours.fresh : colours.near
      const back = mirror || i >= from ? to : colours.far
      for (let k = 0; k < 4; k++) {
        const at = (py + (k >> 1)) * w + px + (k & 1)
        if (this.near[at] >= near) continue
        this.near[at] = near
        for (let c = 0; c < 3; c++) data[4 * at + c] = back[c] + (to[c] - back[c]) * share
        data[4 * at + 3] = 255
      }
    }
  }
}
