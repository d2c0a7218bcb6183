/** The marks of relations on the paper: simple ticks that read in black and white. */
import type { Schemas } from '../api/types'
import { middleOf, type Entity, type XY } from './shapes'

type Held = Schemas['HeldTold']
export type Mark = { at: XY; sign: string; title: string; bad: boolean; key: string; of: string[] }

/** What stands for each relation at the middle of an entity; those of joints show as dots there. */
export const SIGNS: Record<string, string> = {
  horizontal: '—',
  vertical: '|',
  parallel: '∥',
  perpendicular: '⊥',
  tangent: '⌒',
  equal: '=',
  concentric: '◎',
  collinear: '··',
  symmetric: '⋈',
  midpoint: 'm',
  on_curve: 'on',
  fixed: '▪',
  turned: '↻',
  stepped: '→',
  offset: '∦',
}
/** What holds copies: told only where one is picked. */
const COPIES = new Set(['turned', 'stepped', 'offset'])
export const said = (kind: string) => kind.replace('_', ' ')

/** Marks of the relations of some entities; each entity's stand in a row at its middle. */
export function marksOf(relations: Held[], geometry: Entity[], only: Set<string> | null): Mark[] {
  const by = new Map(geometry.map((e) => [e.id, e]))
  const out: Mark[] = []
  relations.forEach((r, k) => {
    const sign = SIGNS[r.kind]
    if (!sign || (!only && COPIES.has(r.kind))) return
    const entities = [...new Set(r.of.map((n) => n.split('.')[0]))].filter((n) => by.has(n))
    if (only && !entities.some((n) => only.has(n))) return
    for (const n of entities.slice(
      0,
      r.kind === 'tangent' || r.kind === 'turned' || r.kind === 'stepped' ? 1 : 2,
    ))
      out.push({
        at: middleOf(by.get(n)!),
        sign,
        title: `${said(r.kind)} ${r.of.join(' ')}: ${r.verdict ? `the scan ${r.verdict}` : ''}`,
        bad: r.verdict === 'says no',
        key: `${k} ${n}`,
        of: r.of,
      })
  })
  return out
}
