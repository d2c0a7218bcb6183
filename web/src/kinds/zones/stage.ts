import { defineStage } from '../kind'
import { laidZones, zonesPlan } from './shown'
import ZonesPanel from './ZonesPanel.vue'

export default defineStage({
  key: 'Zones',
  groups: ['read'],
  sound: ['zones'],
  panel: ZonesPanel,
  shows: (plan, room) => {
    const laid = laidZones(room)
    return laid ? { zones: zonesPlan(laid.stone.key!, plan.scan?.key, laid.told), scanOn: true } : {}
  },
})
