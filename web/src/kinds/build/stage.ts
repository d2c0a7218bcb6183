import { defineStage } from '../kind'
import DraftPanel from './DraftPanel.vue'
import { loopsInSpace, type SketchTold } from './loops'

export default defineStage({
  key: 'Build',
  view: 'both',
  panel: DraftPanel,
  groups: ['push and turn', 'take away and join', 'edges and walls', 'repeat and move'],
  ledger: ['body', 'sketch'],
  /** The loops of a sketch chosen in the yard or on the wall can be picked. */
  shows: (_plan, { job, shown }) => {
    const stone = shown.chosen ? job.byId.get(shown.chosen) : null
    const told = stone?.produces === 'sketch' ? job.toldOf<SketchTold>(stone) : null
    return told && stone ? { loops: loopsInSpace(stone.id, told) } : {}
  },
})
