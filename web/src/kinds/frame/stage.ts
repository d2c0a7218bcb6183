import { defineStage } from '../kind'

export default defineStage({ key: 'Frame', groups: ['read', 'set'], sound: ['frame'], ledger: ['datum'] })
