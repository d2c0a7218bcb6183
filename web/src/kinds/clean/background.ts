import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { across } from '../../view3d/plan'
import { defineKind } from '../kind'
import BackgroundForm from './BackgroundForm.vue'
import { cleaner } from './cleaner'

type Told = Schemas['BackgroundTold']

export default defineKind<Schemas['BackgroundStep'], Told>({
  kind: 'background',
  stage: 'Clean',
  title: 'Background',
  says: 'Drop what is not the part. What would go is shown in brick before it goes.',
  compares: 'before and after',
  goes: 'goes',
  tries: 'by itself',
  form: BackgroundForm,
  slots: { marks: { takes: ['scan'], says: '', marks: true } },
  tools: [
    cleaner(
      'background',
      'Background',
      'Drop the slab, all but one island, or what an outline holds',
      () => ({ way: 'slab', marks: [], drop: 'marked', scraps: true }),
      { group: 'take away', also: 'table slab ground' },
    ),
  ],
  ready: (r, preview) =>
    r.way === 'slab'
      ? preview
        ? true
        : 'Looking for the slab'
      : r.marks.length > 0 || 'Mark in the view first',
  verb: (t) => (t?.goes ? `Clear away ${whole(t.goes)} ${t.what}` : 'Clear away the background'),
  shows: (plan, _r, preview, room) => {
    const slab = preview?.summary.plane
    if (!slab) return {}
    const size = 0.72 * across(room.hand.scan)
    return { planes: [...plan.planes, { origin: slab.point, normal: slab.normal, size, colour: 'saffron' }] }
  },
})
