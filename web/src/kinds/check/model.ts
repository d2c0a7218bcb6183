import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { defineKind } from '../kind'

export default defineKind<Schemas['ModelStep'], Schemas['ModelTold']>({
  kind: 'model',
  stage: 'Check',
  title: 'Foreign model',
  says: 'A model from a file, to be compared with.',
  figures: [{ key: 'faces', label: 'faces', of: (t) => whole(t.faces) }],
})
