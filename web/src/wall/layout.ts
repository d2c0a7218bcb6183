/** Where the stones of the wall lie: five courses, each stone right of what it rests on, in order. */
import type { Stone } from '../api/types'

export const COURSES = ['checks', 'bodies', 'sketches', 'datums', 'scan'] as const
export type Place = { left: number; width: number }

const UNIT = 7.1 // pixels a letter
const GAP = 3
const OVER = 24 // pixels by which a stone overlaps what it rests on, so that the wall stays short
const width = (s: Pick<Stone, 'name'>) => Math.max(62, Math.min(150, s.name.length * UNIT + 20))

type Laid = Pick<Stone, 'id' | 'name' | 'course' | 'inputs'>

export function layWall(stones: Laid[]): Map<string, Place> {
  const course = new Map(stones.map((s) => [s.id, s.course]))
  const right = new Map<string, number>()
  const end: Record<string, number> = {}
  const out = new Map<string, Place>()
  for (const s of stones) {
    const below = s.inputs.filter((i) => course.get(i) !== s.course).map((i) => right.get(i) ?? 0)
    const left = Math.max(end[s.course] ?? 0, ...below.map((r) => r - OVER), 0)
    const w = width(s)
    out.set(s.id, { left, width: w })
    right.set(s.id, left + w)
    end[s.course] = left + w + GAP
  }
  return out
}

type Foldable = Pick<Stone, 'id' | 'course' | 'inputs' | 'betters'>

/**
 * Stones that can be closed into another: a sketch into the one body it serves, a scan's earlier states
 * into the last.
 * By the stone they are closed into.
 */
export function folds(stones: Foldable[]): Map<string, string[]> {
  const users = new Map<string, Foldable[]>()
  for (const s of stones) for (const i of new Set(s.inputs)) users.set(i, [...(users.get(i) ?? []), s])
  const into = new Map<string, string>()
  for (const s of stones) {
    const by = users.get(s.id) ?? []
    const better = by.find((u) => u.betters === s.id && u.course === 'scan')
    if (better && by.length === 1) into.set(s.id, better.id)
    else if (s.course === 'sketches' && by.length === 1 && by[0].course === 'bodies') into.set(s.id, by[0].id)
  }
  const out = new Map<string, string[]>()
  for (const s of stones) {
    let at = into.get(s.id)
    if (!at) continue
    while (into.has(at)) at = into.get(at)!
    out.set(at, [...(out.get(at) ?? []), s.id])
  }
  return out
}

/** What a stone rests on and what rests on it, however far. */
export function related(
  stones: Pick<Stone, 'id' | 'inputs'>[],
  id: string,
): { below: Set<string>; above: Set<string> } {
  const by = new Map(stones.map((s) => [s.id, s]))
  const below = new Set<string>()
  const todo = [id]
  while (todo.length)
    for (const i of by.get(todo.pop()!)?.inputs ?? [])
      if (!below.has(i)) {
        below.add(i)
        todo.push(i)
      }
  const above = new Set<string>()
  // Stones come after what they rest on, so one pass is enough.
  for (const s of stones) if (s.inputs.some((i) => i === id || above.has(i))) above.add(s.id)
  return { below, above }
}
