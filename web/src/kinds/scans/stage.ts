import { defineStage } from '../kind'
import ScansPanel from './ScansPanel.vue'

export default defineStage({ key: 'Scans', panel: ScansPanel })
