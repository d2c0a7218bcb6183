import { defineStage } from '../kind'

export default defineStage({
  key: 'Build',
  view: 'both',
  groups: ['push and turn', 'take away and join', 'edges and walls'],
  ledger: ['body', 'sketch'],
})
