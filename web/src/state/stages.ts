/** The stages of a job in order, and which step kinds and tools belong to each. */
import type { Stone } from '../api/client'

export type StageKey = 'Scans' | 'Clean' | 'Join' | 'Frame' | 'Zones' | 'Sketch' | 'Build' | 'Check' | 'Deliver'
export type Stage = { key: StageKey; kinds: string[]; later?: boolean }

/** Kinds of step that take a scan and give a better one. */
export const CLEAN_KINDS = ['background', 'repair', 'holes', 'bridge', 'curvecut', 'smooth', 'decimate', 'remesh', 'watertight', 'noise', 'thin', 'normals', 'triangulate']

/** Kinds of step that bring scans together. */
export const JOIN_KINDS = ['match', 'settle', 'merge']

export const STAGES: Stage[] = [
  { key: 'Scans', kinds: ['scan', 'combine'] },
  { key: 'Clean', kinds: CLEAN_KINDS },
  { key: 'Join', kinds: ['match', 'settle', 'merge'] },
  { key: 'Frame', kinds: ['datum', 'frame'] },
  { key: 'Zones', kinds: [], later: true },
  { key: 'Sketch', kinds: ['sketch'] },
  { key: 'Build', kinds: ['extrude', 'fillet'] },
  { key: 'Check', kinds: ['check'] },
  { key: 'Deliver', kinds: [] },
]

export type State = 'untouched' | 'begun' | 'sound' | 'wanting'

/** How a stage stands, from its stones. */
export function stageState(stage: Stage, stones: Stone[]): State {
  const mine = stones.filter((s) => stage.kinds.includes(s.kind) && s.status !== 'off')
  if (!mine.length) return 'untouched'
  if (mine.some((s) => ['failed', 'waiting', 'attention'].includes(s.status))) return 'wanting'
  if (stage.key === 'Frame' && !mine.some((s) => s.kind === 'frame')) return 'begun'
  return mine.some((s) => s.status === 'pending') ? 'begun' : 'sound'
}
