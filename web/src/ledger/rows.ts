/** The ledger's lines as they are shown: what is looked for, in the order asked for. */
import type { Stone, ValueLine } from '../api/types'

export type Column = 'name' | 'stone' | 'measured' | 'chosen' | 'source' | 'cost'
export type Row = ValueLine & { stone: string; at: number }

export function rowsOf(values: ValueLine[], stones: Stone[]): Row[] {
  const at = new Map(stones.map((s, k) => [s.id, k]))
  return values.map((v) => ({
    ...v,
    stone: stones[at.get(v.step) ?? 0]?.name ?? v.step,
    at: at.get(v.step) ?? 0,
  }))
}

/** Words that a line must hold, all of them: name, stone, label, source, formula or number. */
export function matching(rows: Row[], text: string): Row[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const told = (r: Row) =>
    `${r.name} ${r.stone} ${r.label} ${r.source} ${r.formula ?? ''} ${r.chosen}`.toLowerCase()
  return rows.filter((r) => words.every((w) => told(r).includes(w)))
}

export function sorted(rows: Row[], by: Column | null, down: boolean): Row[] {
  if (!by) return rows
  const key = (r: Row): string | number =>
    by === 'stone' ? r.at : by === 'cost' ? (r.cost ?? -Infinity) : (r[by] ?? -Infinity)
  const order = (a: Row, b: Row) => {
    const x = key(a)
    const y = key(b)
    return x < y ? -1 : x > y ? 1 : a.at - b.at
  }
  return [...rows].sort((a, b) => (down ? -order(a, b) : order(a, b)))
}
