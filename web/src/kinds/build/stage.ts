import { defineStage } from '../kind'
import { laidCurves } from '../curves/shown'
import BuildPanel from './BuildPanel.vue'
import { loopsInSpace, type SketchTold } from './loops'
import { proposingPlan, takesZone } from './proposing'

export default defineStage({
  key: 'Build',
  view: 'both',
  panel: BuildPanel,
  groups: [
    'push and turn',
    'along curves',
    'surfaces',
    'take away and join',
    'edges and walls',
    'repeat and move',
  ],
  ledger: ['body', 'sketch'],
  /** The loops of a sketch chosen in the yard or on the wall can be picked. */
  takes: takesZone,
  shows: (plan, room) => {
    const { job, shown } = room
    const stone = shown.chosen ? job.byId.get(shown.chosen) : null
    const told = stone?.produces === 'sketch' ? job.toldOf<SketchTold>(stone) : null
    return {
      ...(told && stone ? { loops: loopsInSpace(stone.id, told) } : {}),
      ...laidCurves(plan, room),
      ...proposingPlan(plan, room),
    }
  },
})
