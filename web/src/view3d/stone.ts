/** The colours of what is shown, and the matt stone it is made of. */
import * as THREE from 'three'
import type { Matrix } from '../api/types'
import { dark } from '../state/theme'

/** Stone colours of scans shown together. */
export const STONES = [0xc9b48a, 0x7f9d7e, 0xb9776a, 0x7792b3, 0xa48bb0, 0x6e675e]
/** Colours of bodies that stand side by side. */
export const BODIES = [0x6f9a94, 0xb98a5e, 0x8b7bb0, 0xa3a15c, 0xb0727f, 0x7d8894]
/** The ground everything stands on, and the light that comes back from it. */
export const GROUND = dark ? 0x1f1d1a : 0xeee9e0
export const BOUNCED = dark ? 0x6b6358 : 0xb8ab97
export const COLOURS = {
  brick: dark ? 0xd8574e : 0x9e2b2b,
  moss: dark ? 0x86b383 : 0x4c7a4a,
  sand: 0xc9b48a,
  slate: dark ? 0x6b8db0 : 0x58789a,
  saffron: 0xe79a12,
  inkblue: dark ? 0x9dbce6 : 0x1e3c66,
  ink: dark ? 0xece5d8 : 0x23262a,
  plum: dark ? 0xcf97c4 : 0x85497a,
}
export type Colour = keyof typeof COLOURS

export const css = (c: number) => `#${c.toString(16).padStart(6, '0')}`

export const stone = (color: number, extra: THREE.MeshLambertMaterialParameters = {}) =>
  new THREE.MeshLambertMaterial({ color, side: THREE.DoubleSide, ...extra })

export const matrix4 = (m: Matrix | null | undefined) => {
  const out = new THREE.Matrix4()
  if (m) out.set(...(m.flat() as Parameters<THREE.Matrix4['set']>))
  return out
}
export const times = (a: Matrix | null, b: Matrix): Matrix =>
  a ? a.map((row) => b[0].map((_, c) => row.reduce((t, v, k) => t + v * b[k][c], 0))) : b
export const vector = (p: number[]) => new THREE.Vector3(p[0], p[1], p[2])
