import { defineStage } from '../kind'

export default defineStage({
  key: 'Zones',
  empty: 'The surfaces of a scan will be read here. Until then click a face to see what can be made of it.',
})
