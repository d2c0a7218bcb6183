/** Zones picked to be made features of, and which proposal is looked at. */
import { reactive } from 'vue'
import type { Schemas } from '../../api/types'
import { useDetails } from '../../state/details'
import type { Room } from '../../state/room'
import type { Plan } from '../../view3d/plan'
import type { Under } from '../../view3d/picking'

export type Proposal = Schemas['ProposalView']
type ZonesTold = Schemas['ZonesTold']

type Proposing = { on: boolean; picked: number[]; found: Proposal[] | null; looked: number }
export const proposing = reactive<Proposing>({ on: false, picked: [], found: null, looked: 0 })

/** Begin anew; nothing is picked. */
export function pickZones(on: boolean) {
  Object.assign(proposing, { on, picked: [], found: null, looked: 0 })
}
/** Pick a zone, or let it go again. */
export function pickZone(zone: number) {
  const { picked } = proposing
  proposing.picked = picked.includes(zone) ? picked.filter((k) => k !== zone) : [...picked, zone]
  proposing.found = null
}
/** The zones read last of the scan that is worked on. */
export function zonesOf(room: Room): { id: string; key: string; told: ZonesTold } | null {
  const stone = room.job.given('zones').at(-1)
  const told = stone?.key ? useDetails().toldOf<ZonesTold>(room.job.job!.id, stone.key) : null
  return stone?.key && told ? { id: stone.id, key: stone.key, told } : null
}

/** A click while zones are picked. */
export function takesZone(at: Under, room: Room): boolean {
  if (!proposing.on || room.hand.held) return false
  if (at.what === 'scan' && at.zone !== undefined && at.zone >= 0) pickZone(at.zone)
  return true
}

/** Zones over the scan while they are picked; the proposal's body once there is one. */
export function proposingPlan(plan: Plan, room: Room): Partial<Plan> {
  const looked = proposing.found?.[proposing.looked]
  if (!proposing.on) return {}
  if (looked) return { scanOn: true, bodyOn: true, tide: null, body: { id: looked.body, key: looked.key } }
  const zones = zonesOf(room)
  if (!zones || !plan.scan) return {}
  return {
    scanOn: true,
    bodyOn: false,
    tide: null,
    zones: {
      key: zones.key,
      scan: plan.scan.key,
      kinds: zones.told.zones.map((z) => z.kind),
      names: zones.told.zones.map((z) => z.name),
      chosen: proposing.picked,
    },
  }
}
