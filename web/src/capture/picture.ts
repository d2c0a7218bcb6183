/** A camera's grey bytes as something that can be drawn; the last one is kept. */
import type { Picture } from './capture'

let kept: { picture: Picture; canvas: HTMLCanvasElement } | null = null

export function pictured(p: Picture): HTMLCanvasElement {
  if (kept?.picture === p) return kept.canvas
  const canvas = document.createElement('canvas')
  Object.assign(canvas, { width: p.wide, height: p.high })
  const g = canvas.getContext('2d')!
  const image = g.createImageData(p.wide, p.high)
  const bytes = atob(p.grey)
  for (let i = 0; i < bytes.length; i++) {
    const v = bytes.charCodeAt(i)
    image.data[4 * i] = v
    image.data[4 * i + 1] = 0.985 * v
    image.data[4 * i + 2] = 0.955 * v
    image.data[4 * i + 3] = v ? 255 : 0
  }
  g.putImageData(image, 0, 0)
  kept = { picture: p, canvas }
  return canvas
}

/** What of a picture shows the part: its middle, right of and above the picture's own, and its size, mm. */
export function seenIn(p: Picture) {
  const bytes = atob(p.grey)
  let [left, right, top, low] = [p.wide, -1, p.high, -1]
  for (let i = 0; i < bytes.length; i++) {
    if (!bytes.charCodeAt(i)) continue
    const [x, y] = [i % p.wide, Math.floor(i / p.wide)]
    left = Math.min(left, x)
    right = Math.max(right, x)
    top = Math.min(top, y)
    low = Math.max(low, y)
  }
  if (right < 0) return null
  return {
    right: ((left + right + 1) / 2 - p.wide / 2) * p.pixel,
    up: (p.high / 2 - (top + low + 1) / 2) * p.pixel,
    wide: (right - left + 1) * p.pixel,
    high: (low - top + 1) * p.pixel,
  }
}
