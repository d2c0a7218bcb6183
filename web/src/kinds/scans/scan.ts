import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import ScanForm from './ScanForm.vue'

export default defineKind<Schemas['ScanStep'], Schemas['CaptureTold']>({
  kind: 'scan',
  stage: 'Scans',
  title: 'Scan',
  says: 'Read the same file again in another unit or with other columns; what rests on it follows.',
  tries: 'by itself',
  form: ScanForm,
})
