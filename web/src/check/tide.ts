/**
 * The tide scale, as the server colours files too: bone inside tolerance, clay to umber proud, mist to deep
 * teal short.
 */
const BONE = [0xef, 0xeb, 0xdd]
const PROUD = [
  [0xe3, 0xb6, 0x94],
  [0xc9, 0x7f, 0x4f],
  [0x9a, 0x4e, 0x24],
  [0x4a, 0x26, 0x14],
]
const SHORT = [
  [0xb9, 0xd3, 0xd6],
  [0x79, 0xae, 0xb5],
  [0x35, 0x7a, 0x86],
  [0x0c, 0x3b, 0x47],
]
const NONE = [0x9a, 0x97, 0x90]

export function tideColor(d: number, high: number, reach: number, low = high): number[] {
  if (!Number.isFinite(d)) return NONE
  const band = d > 0 ? high : low
  if (Math.abs(d) <= band) return BONE
  const s = Math.min((Math.abs(d) - band) / Math.max(reach - band, 1e-12), 1) * 3
  const scale = d > 0 ? PROUD : SHORT
  const i = Math.min(Math.floor(s), 2)
  return scale[i].map((c, k) => Math.round(c + (scale[i + 1][k] - c) * (s - i)))
}

export function tideColors(distance: Float32Array, high: number, reach: number, low = high): Uint8Array {
  const out = new Uint8Array(distance.length * 3)
  // Vertex colours are linear in three.js: undo the screen's curve.
  const linear = Array.from({ length: 256 }, (_, i) =>
    Math.round(255 * (i / 255 <= 0.04045 ? i / 255 / 12.92 : ((i / 255 + 0.055) / 1.055) ** 2.4)),
  )
  for (let i = 0; i < distance.length; i++) {
    const c = tideColor(distance[i], high, reach, low)
    out[3 * i] = linear[c[0]]
    out[3 * i + 1] = linear[c[1]]
    out[3 * i + 2] = linear[c[2]]
  }
  return out
}

export const css = (c: number[]) => `rgb(${c[0]},${c[1]},${c[2]})`

const FAR_SHARE = 0.995
const LEAST = 0.002 // mm: below this, differences are rounding

/** Where colour is full, mm: what all but a few of the places that have an answer lie within. */
export function fullAt(values: Float32Array): number {
  const size = values.filter(Number.isFinite).map(Math.abs).sort()
  return Math.max(size[Math.floor(size.length * FAR_SHARE)] ?? 0, LEAST)
}
