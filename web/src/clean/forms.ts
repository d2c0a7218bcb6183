/** Cleaning steps that need only numbers: their fields, and which of their figures are evidence. */
import { mm } from '../state/format'

export type Field = { key: string; label: string; unit?: string; step: number; min: number; max?: number; empty?: string; when?: (r: any) => boolean }
export type Choice = { key: string; options: [string, string][] }
export type Figure = { key: string; label: string; unit?: string; digits?: number; of?: (s: any, before: any) => string }
export type Form = { title: string; says: string; choice?: Choice; toggle?: { key: string; label: string }; fields: Field[]; figures: Figure[]; moved?: boolean }

const count = (n: number) => n.toLocaleString('en')
const against: Figure = { key: 'triangles', label: 'triangles', of: (s, b) => `${count(b?.triangles ?? s.before)} → ${count(s.triangles)}` }
const SHAPES: Choice = { key: 'shape', options: [['flat', 'flat'], ['tangent', 'tangent'], ['curved', 'curved']] }

export const FORMS: Record<string, Form> = {
  smooth: {
    title: 'Smooth', says: 'Noise is calmed; edges and volume stay, and no vertex moves farther than the bound.', moved: true,
    fields: [{ key: 'strength', label: 'strength', step: 0.1, min: 0, max: 1 }, { key: 'bound', label: 'bound', unit: 'mm', step: 0.01, min: 0.001, empty: '4 × the scatter' }],
    figures: [{ key: 'bound', label: 'bound', unit: 'mm', digits: 3 }, { key: 'moved_rms', label: 'moved, rms', unit: 'mm', digits: 4 }, { key: 'moved_max', label: 'moved, most', unit: 'mm', digits: 4 }, { key: 'volume_change', label: 'volume', of: (s) => `${mm(100 * s.volume_change, 4)} %` }],
  },
  decimate: {
    title: 'Decimate', says: 'Fewer triangles where the surface is flat; edges stay. The deviation is measured both ways.', moved: true,
    choice: { key: 'to', options: [['share', 'a share'], ['count', 'a count'], ['tolerance', 'a tolerance']] },
    fields: [
      { key: 'share', label: 'leave', unit: 'of all', step: 0.05, min: 0.001, max: 1, when: (r) => r.to === 'share' },
      { key: 'triangles', label: 'leave', unit: 'triangles', step: 1000, min: 4, when: (r) => r.to === 'count' },
      { key: 'tolerance', label: 'stay within', unit: 'mm', step: 0.01, min: 0.0001, when: (r) => r.to === 'tolerance' },
    ],
    figures: [against, { key: 'deviation_rms', label: 'deviation, rms', unit: 'mm', digits: 4 }, { key: 'deviation_max', label: 'deviation, most', unit: 'mm', digits: 4 }],
  },
  remesh: {
    title: 'Remesh', says: 'Even triangles on the same surface; sharp edges and open rims stay where they are.', moved: true,
    fields: [{ key: 'edge', label: 'edge length', unit: 'mm', step: 0.1, min: 0.01 }],
    figures: [against, { key: 'edge_median', label: 'edge, middle', unit: 'mm', digits: 3 }, { key: 'edge_spread', label: 'edge spread', of: (s) => `${s.edge_spread.toFixed(2)} ×` }, { key: 'deviation_max', label: 'deviation, most', unit: 'mm', digits: 4 }],
  },
  watertight: {
    title: 'Watertight', says: 'Defects repaired, every rim closed, scraps gone: a closed mesh for printing.', choice: SHAPES, fields: [],
    figures: [against, { key: 'volume', label: 'volume', of: (s) => `${(s.volume / 1000).toFixed(3)} cm³` }],
  },
  noise: {
    title: 'Noise', says: 'Points off the surface around them, and small clumps apart. What would go is shown in brick first.',
    fields: [{ key: 'strictness', label: 'goes beyond', unit: '× scatter', step: 0.5, min: 1, max: 50 }, { key: 'smallest_clump', label: 'clumps below', unit: 'points', step: 10, min: 1 }],
    figures: [{ key: 'off', label: 'off the surface', of: (s) => count(s.off) }, { key: 'clumps', label: 'in clumps', of: (s) => count(s.clumps) }, { key: 'points', label: 'stays', of: (s) => `${count(s.points)} points` }, { key: 'scatter', label: 'scatter', unit: 'mm', digits: 4 }],
  },
  thin: {
    title: 'Thin out', says: 'Even spacing, or sparser where the surface is flat.',
    fields: [{ key: 'spacing', label: 'spacing', unit: 'mm', step: 0.1, min: 0.001 }, { key: 'flat_spacing', label: 'where flat, to', unit: 'mm', step: 0.1, min: 0.001, empty: 'the same' }],
    figures: [{ key: 'points', label: 'points', of: (s) => `${count(s.before)} → ${count(s.points)}` }],
  },
  normals: {
    title: 'Normals', says: 'Which way the surface faces at each point, all turned the same way round.',
    toggle: { key: 'turned', label: 'all the other way round' }, fields: [],
    figures: [{ key: 'points', label: 'points', of: (s) => count(s.points) }, { key: 'outward', label: 'face away from the middle', of: (s) => `${(100 * s.outward).toFixed(1)} %` }],
  },
  triangulate: {
    title: 'Triangulate', says: 'A mesh through the cloud, open where nothing was seen.',
    fields: [{ key: 'accuracy', label: 'accuracy stated', unit: 'mm', step: 0.01, min: 0.0001, empty: 'not stated' }, { key: 'resolution', label: 'edge length', unit: 'mm', step: 0.1, min: 0.001, empty: 'from the points' }],
    figures: [{ key: 'triangles', label: 'triangles', of: (s) => count(s.triangles) }, { key: 'resolution', label: 'edge length', unit: 'mm', digits: 3 }, { key: 'rms', label: 'points off it, rms', unit: 'mm', digits: 4 }, { key: 'max', label: 'most', unit: 'mm', digits: 3 }],
  },
}
