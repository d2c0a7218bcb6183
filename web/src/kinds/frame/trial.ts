/** Freedoms that no datum holds, tried by dragging: only looked at, never laid. */
import { reactive } from 'vue'
import type { Matrix } from '../../api/types'

type Axis = 'x' | 'y' | 'z'
/** How far each open freedom is dragged, by its words: degrees of a turn, mm of a move. */
export const trial = reactive<{ by: Record<string, number> }>({ by: {} })
export const still = () => (trial.by = {})

const AXES: Axis[] = ['x', 'y', 'z']
const axisOf = (freedom: string) => AXES.indexOf(freedom.slice(-1) as Axis)
export const isTurn = (freedom: string) => freedom.startsWith('turn')

function motionOf(freedom: string, by: number): Matrix {
  const m: number[][] = AXES.map((_, i) => [0, 1, 2, 3].map((k) => Number(i === k)))
  const k = axisOf(freedom)
  if (isTurn(freedom)) {
    const [i, j] = [(k + 1) % 3, (k + 2) % 3]
    const t = (by * Math.PI) / 180
    m[i][i] = m[j][j] = Math.cos(t)
    m[j][i] = Math.sin(t)
    m[i][j] = -Math.sin(t)
  } else m[k][3] = by
  return [...m, [0, 0, 0, 1]] as Matrix
}
const after = (a: Matrix, b: Matrix) =>
  a.map((row) => [0, 1, 2, 3].map((k) => row.reduce((t, v, i) => t + v * b[i][k], 0))) as Matrix

/** Where the frame would have the part with the open freedoms dragged so far. */
export function tried(matrix: Matrix, open: string[]): Matrix {
  return open.reduce((m, f) => (trial.by[f] ? after(motionOf(f, trial.by[f]), m) : m), matrix)
}
