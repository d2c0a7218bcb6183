/** What a job can be handed on as, and what is missing where it cannot be yet. */
import type { Room } from '../../state/room'

export type Good = {
  what: string
  /** Of which stone. */
  step?: string
  name: string
  says: string
  group: 'model' | 'scan' | 'drawings' | 'history'
  /** Why it cannot be handed on; empty where it can. */
  off: string
  /** Made of triangles, that lie within a length one may choose. */
  triangles?: boolean
}

export const GROUPS: [Good['group'], string][] = [
  ['model', 'Model'],
  ['scan', 'Scan'],
  ['drawings', 'Drawings and elements'],
  ['history', 'History'],
]

export function goodsOf(room: Room): Good[] {
  const { job: j } = room
  const noBody = j.body ? '' : 'lay a body first'
  const model = (suffix: string, name: string, says: string, triangles = false): Good => ({
    what: `model.${suffix}`,
    name,
    says,
    group: 'model',
    off: noBody,
    triangles,
  })
  const datums = [...j.given('datum'), ...j.given('sketch')]
  const drawn = (kind: 'sketch' | 'section') =>
    j.given(kind).flatMap((s): Good[] =>
      ['dxf', 'svg'].map((suffix) => ({
        what: `${kind}.${suffix}`,
        step: s.id,
        name: `${s.name}, ${suffix.toUpperCase()}`,
        says: kind === 'sketch' ? 'true lines, arcs, circles' : 'the model cut, the scan beside it',
        group: 'drawings',
        off: '',
      })),
    )
  return [
    model('step', 'STEP', 'solids, names, colours'),
    model('iges', 'IGES', 'for older programs'),
    model('brep', 'B-rep', 'exact, without names'),
    model('stl', 'STL', 'triangles', true),
    model('3mf', '3MF', 'triangles, for printing', true),
    model('glb', 'GLB', 'coloured, to look at', true),
    {
      what: 'scan.ply',
      name: 'PLY',
      says: 'double precision',
      group: 'scan',
      off: '',
      triangles: true,
    },
    { what: 'scan.stl', name: 'STL', says: 'single precision', group: 'scan', off: '', triangles: true },
    { what: 'scan.glb', name: 'GLB', says: 'to look at', group: 'scan', off: '', triangles: true },
    {
      what: 'drawing.pdf',
      name: 'Sheet, PDF',
      says: 'views, section, sizes',
      group: 'drawings',
      off: noBody,
    },
    {
      what: 'drawing.svg',
      name: 'Sheet, SVG',
      says: 'the same as a picture of lines',
      group: 'drawings',
      off: noBody,
    },
    {
      what: 'drawing.dxf',
      name: 'Sheet, DXF',
      says: 'the same, layer by layer',
      group: 'drawings',
      off: noBody,
    },
    {
      what: 'elements.step',
      name: 'Elements, STEP',
      says: 'planes, axes, bores, sketches alone',
      group: 'drawings',
      off: datums.length ? '' : 'read a datum first',
    },
    ...drawn('sketch'),
    ...drawn('section'),
    {
      what: 'model.py',
      name: 'Script',
      says: 'build123d, numbers at its top',
      group: 'history',
      off: noBody,
    },
    { what: 'recipe.json', name: 'Recipe', says: 'every step, without scans', group: 'history', off: '' },
    {
      what: 'recipe.zip',
      name: 'Recipe with scans',
      says: 'opens in another Deft Mason',
      group: 'history',
      off: '',
    },
  ]
}
