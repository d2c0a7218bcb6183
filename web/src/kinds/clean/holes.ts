import type { Schemas } from '../../api/types'
import { defineKind } from '../kind'
import { cleaner, onMesh } from './cleaner'
import HolesForm from './HolesForm.vue'
import { useRims } from './useRims'

type Record = Schemas['HolesStep']

export default defineKind<Record, Schemas['ClosedTold']>({
  kind: 'holes',
  stage: 'Clean',
  title: 'Patches',
  says: 'Each patch is as dense as the mesh around it. Rims are lit in the view; click one to pick it.',
  compares: 'before and after',
  adds: 'patch',
  tries: 'by itself',
  form: HolesForm,
  slots: {
    rims: {
      takes: ['line'],
      says: 'Click a rim to pick it or let it go',
      put: (at, r) => {
        if (at.what === 'line') useRims().pick(at.index, r)
      },
    },
  },
  tools: [
    cleaner(
      'holes',
      'Close holes',
      'Patches flat, tangent or following curvature',
      () => ({ which: 'all but the longest', count: 1, places: [], shape: 'tangent', rework: 0 }),
      { fits: onMesh, group: 'close', place: 1, slot: 'rims', also: 'fill patch' },
    ),
  ],
  ready: (r) => r.which !== 'picked' || r.places.length > 0 || 'Pick a rim to close',
  verb: (t) => (t?.closed ? `Close ${t.closed} ${t.closed === 1 ? 'hole' : 'holes'}` : 'Close holes'),
  shows: (plan, r, _p, room) => ({ lines: [...plan.lines, ...useRims().asLines(r, room.hand.over)] }),
})
