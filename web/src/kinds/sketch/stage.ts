import { defineStage } from '../kind'
import { laidCurves } from '../curves/shown'
import { cutShown } from './cut'

export default defineStage({
  key: 'Sketch',
  view: 'both',
  groups: ['on a plane', 'in space', 'curves of what is there'],
  columns: true,
  ledger: ['sketch', 'curve'],
  paper: true,
  shows: (plan, room) => {
    const curves = { ...plan, ...laidCurves(plan, room) }
    return { ...curves, ...cutShown(curves, room) }
  },
})
