import { defineStage } from '../kind'
import DeviationPanel from './DeviationPanel.vue'

export default defineStage({ key: 'Check', view: 'both', panel: DeviationPanel })
