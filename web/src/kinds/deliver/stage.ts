import { defineStage } from '../kind'
import DeliverPanel from './DeliverPanel.vue'

export default defineStage({ key: 'Deliver', view: 'both', panel: DeliverPanel })
