/** The tools, where each belongs, what it needs, and what it puts in hand. */
import type { useJob } from './job'
import type { StageKey } from './stages'

type Job = ReturnType<typeof useJob>
export type Tool = { id: string; name: string; says: string; stage: StageKey; needs: (j: Job) => string | null; fits?: (j: Job) => boolean; start: (j: Job) => void }

const needScan = (j: Job) => (j.scan ? null : 'Needs a scan.')
const needFrame = (j: Job) => needScan(j) ?? (j.frame ? null : 'Set a frame first.')
const needSketch = (j: Job) => needFrame(j) ?? (j.stones.some((s) => s.produces === 'sketch' && j.done(s)) ? null : 'Lay a sketch first.')
const needBody = (j: Job) => needFrame(j) ?? (j.body ? null : 'Lay a body first.')

const datum = (element: 'plane' | 'cylinder', name: string) => (j: Job) => {
  j.takeUp('datum', { name: j.freeName(name), scan: j.scan!.id, element, pick: null })
  j.slot = 'place'
  j.show.scan = true
}
const extrude = (how: 'join' | 'cut', name: string) => (j: Job) => {
  const sketches = j.stones.filter((s) => s.produces === 'sketch' && j.done(s))
  const end = () => ({ to: 'face', pick: null, height: { value: null, source: 'rounded' } })
  j.takeUp('extrude', {
    name: j.freeName(name), scan: j.scan!.id, frame: j.frame!.id, sketch: sketches[sketches.length - 1].id,
    body: j.body?.id ?? null, how, loops: [], start: end(), end: how === 'cut' ? { ...end(), to: 'through' } : end(),
    draft: { value: 0, source: 'typed' },
  })
  j.slot = 'start'
  j.show.scan = true
}

const isCloud = (j: Job) => (j.scan?.summary as any)?.is === 'cloud'
const mesh = (j: Job) => !isCloud(j)
const edge = (j: Job) => {
  const s = j.scan!.summary as any
  const [a, b] = s.bounds
  return Number((0.012 * Math.hypot(...b.map((v: number, k: number) => v - a[k]))).toPrecision(2))
}
/** A cleaning tool: what it puts in hand works on the scan chosen. */
const cleaner = (kind: string, name: string, says: string, fits: (j: Job) => boolean, record: (j: Job) => Record<string, any> = () => ({})): Tool => ({
  id: kind, name, says, stage: 'Clean', needs: needScan, fits,
  start: (j) => j.takeUp(kind, { name: j.freeName(name), scan: j.scan!.id, ...record(j) }),
})

const laidPlacement = (j: Job): string | null => [...j.stones].reverse().find((s) => s.produces === 'placement' && j.done(s))?.id ?? null
/** The scans to join, those placed already first: the others come to them. */
const ordered = (j: Job) => {
  const at = laidPlacement(j)
  const placed = at ? Object.keys((j.byId.get(at)!.summary as any).motions ?? {}) : []
  const all = j.joinScans.filter((s) => !j.hidden.has(j.root(s.id))).map((s) => s.id)
  return [...placed.filter((id) => all.includes(id)), ...all.filter((id) => !placed.includes(id))]
}
const needScans = (j: Job) => (j.joinScans.length > 1 ? null : 'Needs two scans or more; bring them in Scans.')
const needPlaces = (j: Job) => {
  const at = laidPlacement(j)
  return at && Object.keys((j.byId.get(at)!.summary as any).motions ?? {}).length > 1 ? null : 'Match scans first.'
}

export const TOOLS: Tool[] = [
  cleaner('background', 'Background', 'Drop the slab, all but one island, or what an outline holds', () => true, () => ({ way: 'slab', marks: [], drop: 'marked', scraps: true })),
  cleaner('noise', 'Noise', 'Points off the surface, and clumps apart', isCloud, () => ({ strictness: 4, smallest_clump: 40 })),
  cleaner('thin', 'Thin out', 'Fewer points, evenly or by curvature', isCloud, (j) => ({ spacing: edge(j) / 4, flat_spacing: null })),
  {
    id: 'combine', name: 'Combine clouds', says: 'One cloud of several, doubled layers dropped', stage: 'Clean', fits: isCloud,
    needs: (j) => (j.tips.filter((t) => (t.summary as any).is === 'cloud').length > 1 ? null : 'Needs two clouds.'),
    start: (j) => j.takeUp('combine', { name: j.freeName('Combined'), scans: j.tips.filter((t) => (t.summary as any).is === 'cloud').map((t) => t.id), layer: null }),
  },
  cleaner('normals', 'Normals', 'Which way the surface faces at each point', isCloud, () => ({ turned: false })),
  cleaner('triangulate', 'Triangulate', 'A mesh through the cloud', isCloud, () => ({ accuracy: null, resolution: null })),
  cleaner('curvecut', 'Cut along a curve', 'Split triangles along a drawn curve, keep one side', mesh, () => ({ places: [], closed: true, keep: null })),
  cleaner('bridge', 'Bridge a gap', 'Close part of a rim, or lay a strip across', mesh, (j) => ({ way: 'stretch', places: [], width: 2 * edge(j), shape: 'tangent' })),
  cleaner('holes', 'Close holes', 'Patches flat, tangent or following curvature', mesh, () => ({ which: 'all but the longest', count: 1, places: [], shape: 'tangent', rework: 0 })),
  cleaner('smooth', 'Smooth', 'Calm the noise within a bound', mesh, () => ({ strength: 0.4, bound: null })),
  cleaner('decimate', 'Decimate', 'Fewer triangles, deviation measured', mesh, (j) => ({ to: 'share', share: 0.25, triangles: Math.round(((j.scan!.summary as any).triangles ?? 0) / 4), tolerance: 0.05 })),
  cleaner('remesh', 'Remesh', 'Even triangles of a chosen edge length', mesh, (j) => ({ edge: edge(j) })),
  cleaner('watertight', 'Watertight', 'Closed and sound, for printing', mesh, () => ({ shape: 'tangent' })),
  {
    id: 'match', name: 'Match by themselves', says: 'Every scan finds where it belongs, or says why not', stage: 'Join', needs: needScans,
    start: (j) => { j.takeUp('match', { name: j.freeName('Rough match'), scans: ordered(j), pairs: [], by: 'itself', placement: laidPlacement(j), noise: null }); j.tryIt(0) },
  },
  {
    id: 'pairs', name: 'Match by pairs', says: 'Click the same places on two scans, three or more', stage: 'Join', needs: needScans,
    start: (j) => { j.takeUp('match', { name: j.freeName('Rough match'), scans: ordered(j), pairs: [], by: 'pairs', placement: laidPlacement(j), noise: null }); j.slot = 'pairs' },
  },
  {
    id: 'settle', name: 'Settle', says: 'All placed scans drawn onto each other at once', stage: 'Join', needs: needPlaces,
    start: (j) => { j.takeUp('settle', { name: j.freeName('Settled'), placement: laidPlacement(j), held: [], leave_out: [], reach: null }); j.tryIt(0) },
  },
  {
    id: 'merge', name: 'Merge', says: 'One mesh, each place the mean of what saw it best', stage: 'Join', needs: needPlaces,
    start: (j) => { j.takeUp('merge', { name: j.freeName('Merged'), placement: laidPlacement(j), resolution: null, noise: null, leave_out: [] }); j.show.joined = 'mesh'; j.tryIt(0) },
  },
  { id: 'plane', name: 'Plane datum', says: 'A flat face, from one place on it', stage: 'Frame', needs: needScan, start: datum('plane', 'Plane') },
  { id: 'axis', name: 'Axis datum', says: 'The axis of a bore or boss', stage: 'Frame', needs: needScan, start: datum('cylinder', 'Axis') },
  {
    id: 'frame', name: 'Set frame', says: 'Put the part on its own axes', stage: 'Frame',
    needs: (j) => (j.stones.some((s) => s.produces === 'datum' && j.done(s)) ? null : 'Lay a datum first.'),
    start: (j) => {
      const datums = j.stones.filter((s) => s.produces === 'datum' && j.done(s))
      const planes = datums.filter((s) => (s.summary as any).element === 'plane')
      const axes = datums.filter((s) => (s.summary as any).element === 'cylinder')
      j.takeUp('frame', {
        name: j.freeName('Part frame'), first: (planes[0] ?? datums[0]).id, second: planes[1]?.id ?? null, origin: axes[0]?.id ?? null,
        first_axis: 'z', second_axis: 'y', flip_first: false, flip_second: false,
      })
      j.tryIt(0)
    },
  },
  {
    id: 'sketch', name: 'Sketch on a cut', says: 'Cut the scan with a plane and draw over the trace', stage: 'Sketch', needs: needFrame,
    start: (j) => {
      j.takeUp('sketch', { name: j.freeName('Sketch'), scan: j.scan!.id, frame: j.frame!.id, axis: 'z', height: 0, strokes: [], relations: [], sizes: [] })
    },
  },
  { id: 'extrude', name: 'Extrude', says: 'Push a sketch through to where the scan ends', stage: 'Build', needs: needSketch, start: extrude('join', 'Extrusion') },
  { id: 'cut', name: 'Cut', says: 'Take a sketch out of the body', stage: 'Build', needs: (j) => needSketch(j) ?? needBody(j), start: extrude('cut', 'Cut') },
  {
    id: 'fillet', name: 'Fillet', says: 'Round edges with a radius read from the scan', stage: 'Build', needs: needBody,
    start: (j) => {
      j.takeUp('fillet', { name: j.freeName('Fillet'), scan: j.scan!.id, frame: j.frame!.id, body: j.body!.id, edges: [], radius: { value: null, source: 'rounded' } })
      j.slot = 'edges'
      j.show.model = true
      j.show.scan = false
    },
  },
  {
    id: 'check', name: 'Deviation map', says: 'Measure the scan against the model', stage: 'Check', needs: needBody,
    start: (j) => {
      j.takeUp('check', { name: j.freeName('Check'), scan: j.scan!.id, frame: j.frame!.id, body: j.body!.id, tolerance: 0.1, reach: 1, angle_deg: 60 })
    },
  },
]

const BELT = 'mason.belt'
export const belt = (): string[] => JSON.parse(localStorage.getItem(BELT) ?? '["plane","axis","frame","sketch","extrude","cut","fillet","check"]')
