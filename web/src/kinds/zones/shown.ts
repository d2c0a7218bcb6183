/** Which zone is looked at, and how zones are drawn. */
import { reactive } from 'vue'
import type { Schemas, Stone, Vec3 } from '../../api/types'
import { useDetails } from '../../state/details'
import type { Room } from '../../state/room'
import type { Plan } from '../../view3d/plan'

export type ZonesTold = Schemas['ZonesTold']
export type ZoneTold = ZonesTold['zones'][number]

/** The zone that was clicked, where, what the next click does to it, and where a cut through it runs. */
type Looked = {
  zone: number | null
  place: Vec3 | null
  next: '' | 'join' | 'split' | 'give'
  from: Vec3 | null
  to: Vec3 | null
}
export const looked = reactive<Looked>({ zone: null, place: null, next: '', from: null, to: null })
export function look(zone: number | null, place: Vec3 | null = null) {
  Object.assign(looked, { zone, place, next: '', from: null, to: null })
}
/** The next click joins a neighbour or begins a cut; asked again, it does neither. */
export function next(what: Looked['next']) {
  looked.next = looked.next === what ? '' : what
  looked.from = looked.to = null
}

export function zonesPlan(key: string, scan: string | undefined, told: ZonesTold): Plan['zones'] {
  if (!scan) return null
  const chosen = looked.zone === null ? [] : [looked.zone]
  return { key, scan, kinds: told.zones.map((z) => z.kind), names: told.zones.map((z) => z.name), chosen }
}

/** The zones laid last, and all they tell once it is fetched. */
export function laidZones(room: Room): { stone: Stone; told: ZonesTold } | null {
  const stone = room.job.given('zones').at(-1)
  const told = stone?.key ? useDetails().toldOf<ZonesTold>(room.job.job!.id, stone.key) : null
  return stone && told ? { stone, told } : null
}

type ByHand = Schemas['ZonesStep']['by_hand'][number]
/** A change by hand with all it leaves unsaid. */
export const byHand = (by: Partial<ByHand> & { place: Vec3 }): ByHand => ({
  do: 'refit',
  kind: null,
  to: null,
  also: null,
  name: '',
  ...by,
})
