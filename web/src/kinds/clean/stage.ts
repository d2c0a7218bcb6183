import { defineStage } from '../kind'
import CleanPanel from './CleanPanel.vue'

export default defineStage({
  key: 'Clean',
  groups: ['take away', 'close', 'cut', 'shape', 'cloud'],
  panel: CleanPanel,
  columns: true,
})
