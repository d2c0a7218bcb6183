import { defineStage } from '../kind'
import JoinPanel from './JoinPanel.vue'

export default defineStage({
  key: 'Join',
  view: 'joined',
  groups: ['match', 'bring together'],
  panel: JoinPanel,
})
