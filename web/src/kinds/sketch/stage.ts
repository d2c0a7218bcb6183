import { defineStage } from '../kind'
import { cutShown } from './cut'

export default defineStage({
  key: 'Sketch',
  view: 'both',
  groups: ['on a plane'],
  ledger: ['sketch'],
  paper: true,
  shows: cutShown,
})
