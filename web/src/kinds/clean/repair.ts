import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import RepairForm from './RepairForm.vue'

export default defineKind<Schemas['RepairStep'], Schemas['RepairTold']>({
  kind: 'repair',
  stage: 'Clean',
  title: 'Repair',
  says: 'The ticked kinds are repaired together; the rest of the mesh stays as it is.',
  compares: 'before and after',
  tries: 'by itself',
  form: RepairForm,
  ready: (r) => r.fix.length > 0 || 'Tick what is to be repaired',
  verb: () => 'Repair what is ticked',
})
