/**
 * All kinds and stages, by what they say of themselves: tool lists, the finder, the belt, the stages'
 * states.
 */
import type { Stone } from '../api/types'
import type { Room } from '../state/room'
import type { Kind, Stage, StageState, Tool } from './kind'
import { STAGE_KEYS, type StageKey } from './stages'

const kinds = new Map<string, Kind>()
const stages = new Map<StageKey, Stage>()

/** Make kinds and stages known; what comes again replaces what was there. */
export function register(found: { kinds: Kind[]; stages: Stage[] }) {
  for (const k of found.kinds) kinds.set(k.kind, k)
  for (const s of found.stages) stages.set(s.key, s)
}

export const kindOf = (name: string): Kind | undefined => kinds.get(name)
export const allKinds = (): Kind[] => [...kinds.values()]
export const allStages = (): Stage[] => STAGE_KEYS.map((k) => stages.get(k)).filter((s): s is Stage => !!s)
export const stageOf = (key: StageKey): Stage | undefined => stages.get(key)

/** Every tool, by stage, then by the stage's groups. */
export function allTools(): Tool[] {
  const at = (t: Tool) => {
    const groups = stages.get(t.stage)?.groups ?? []
    return STAGE_KEYS.indexOf(t.stage) * 1000 + Math.max(0, groups.indexOf(t.group)) * 10 + t.place
  }
  return [...kinds.values()].flatMap((k) => k.tools).sort((a, b) => at(a) - at(b))
}
export const toolOf = (id: string): Tool | undefined => allTools().find((t) => t.id === id)

/** A stage's tools in its groups, those that make no sense here left out. */
export function toolGroups(stage: StageKey, room: Room): { group: string; tools: Tool[] }[] {
  const fit = allTools().filter((t) => t.stage === stage && t.fits(room))
  const groups = [...new Set(fit.map((t) => t.group))]
  return groups.map((group) => ({ group, tools: fit.filter((t) => t.group === group) }))
}

/**
 * Tools by what was typed: names that begin with it first, then names that hold it, then what tools say of
 * themselves.
 */
export function findTools(text: string, room: Room): Tool[] {
  const wanted = text.trim().toLowerCase()
  const rank = (t: Tool) => {
    const name = t.name.toLowerCase()
    return name === wanted ? 0 : name.startsWith(wanted) ? 1 : name.includes(wanted) ? 2 : 3
  }
  return allTools()
    .filter((t) => t.fits(room) && `${t.name} ${t.says} ${t.also} ${t.stage}`.toLowerCase().includes(wanted))
    .sort((a, b) => rank(a) - rank(b))
}

/** How a stage stands, from its stones. */
export function stageState(stage: Stage, stones: Pick<Stone, 'kind' | 'status' | 'produces'>[]): StageState {
  const mine = stones.filter((s) => kinds.get(s.kind)?.stage === stage.key && s.status !== 'off')
  if (!mine.length) return 'untouched'
  if (mine.some((s) => ['failed', 'waiting', 'attention'].includes(s.status))) return 'wanting'
  if (stage.sound.some((gives) => !mine.some((s) => s.produces === gives))) return 'begun'
  return mine.some((s) => s.status === 'pending') ? 'begun' : 'sound'
}

const BELT = 'mason.belt'

/** What lies on the belt of somebody who has pinned nothing yet. */
const firstBelt = (): string[] =>
  allTools()
    .filter((t) => t.belt > 0)
    .sort((a, b) => a.belt - b.belt)
    .map((t) => t.id)

/** The ids of the tools on the belt. */
export function belt(): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(BELT) ?? 'null')
    return Array.isArray(kept) ? kept.filter((x): x is string => typeof x === 'string') : firstBelt()
  } catch {
    return firstBelt()
  }
}
const USED = 'mason.used'
/** How often each tool was taken up in this browser, by its id. */
export function used(): Record<string, number> {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(USED) ?? '{}')
    return kept && typeof kept === 'object' ? (kept as Record<string, number>) : {}
  } catch {
    return {}
  }
}
export function noteUse(id: string) {
  const known = used()
  localStorage.setItem(USED, JSON.stringify({ ...known, [id]: (known[id] ?? 0) + 1 }))
}
export const keepBelt = (ids: string[]) => localStorage.setItem(BELT, JSON.stringify(ids.slice(0, 8)))
