import { defineStage } from '../kind'

const MOST = 12 // datums drawn at once; more would hide the part

export default defineStage({
  key: 'Frame',
  groups: ['read', 'make', 'set'],
  sound: ['frame'],
  ledger: ['datum', 'note'],
  shows: (plan, room) =>
    room.shown.proof
      ? {}
      : {
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
