import { defineStage } from '../kind'
import FramesPanel from './FramesPanel.vue'
import { suggestedPlan } from './suggesting'

const MOST = 12 // datums drawn at once; more would hide the part

export default defineStage({
  key: 'Frame',
  groups: ['read', 'make', 'set'],
  sound: ['frame'],
  ledger: ['datum', 'note'],
  panel: FramesPanel,
  shows: (plan, room) =>
    room.shown.proof
      ? {}
      : {
          ...(room.hand.held ? {} : suggestedPlan(plan)),
          datums: [
            ...plan.datums,
            ...room.job
              .given('datum')
              .slice(-MOST)
              .map((s) => s.id)
              .filter((id) => !plan.datums.includes(id)),
          ],
        },
})
