/**
 * What lies under a pixel, as a typed answer: the one place where clicks and hovering find out what they are
 * on.
 */
import * as THREE from 'three'
import type { EdgeName, Vec3 } from '../api/types'
import type { Viewer } from './viewer'

export type What = 'tide' | 'scan' | 'face' | 'edge' | 'vertex' | 'datum' | 'loop' | 'line' | 'handle'

/** `shown` is the place in the view's coordinates; `place` in those of what was hit. */
export type Under =
  | { what: 'scan'; id: string; place: Vec3; normal: Vec3; shown: Vec3; facet: number; zone?: number }
  | { what: 'tide'; shown: Vec3; value: number; face: string }
  | { what: 'face'; body: string; name: string; place: Vec3; normal: Vec3; shown: Vec3 }
  | { what: 'edge'; body: string; name: EdgeName; place: Vec3; shown: Vec3 }
  | { what: 'vertex'; body: string; edges: EdgeName[]; place: Vec3; shown: Vec3 }
  | { what: 'datum'; id: string; shown: Vec3 }
  | { what: 'loop'; sketch: string; entity: string; shown: Vec3; points: THREE.Vector3[] }
  | { what: 'line'; index: number; at: number; place: Vec3; shown: Vec3 }
  | { what: 'handle'; index: number; shown: Vec3 }

const REACH = { handle: 9, vertex: 9, line: 16, loop: 12, edge: 14, axis: 10 } // pixels

/**
 * How much deeper than the face in front of it an edge may lie and still be its own, as a share of the depth
 * drawn.
 */
const HIDDEN = 2e-3

const vec3 = (v: THREE.Vector3) => v.toArray().map((x) => Number(x.toFixed(5))) as Vec3
const towards = (n: THREE.Vector3, ray: THREE.Ray) => (n.dot(ray.direction) > 0 ? n.negate() : n)

/** Two answers that mean the same thing; places on a scan are never the same. */
export function sameThing(a: Under, b: Under): boolean {
  if (a.what !== b.what) return false
  if (a.what === 'edge' && b.what === 'edge') return a.body === b.body && a.name.join() === b.name.join()
  if (a.what === 'face' && b.what === 'face') return a.body === b.body && a.name === b.name
  if (a.what === 'datum' && b.what === 'datum') return a.id === b.id
  if (a.what === 'loop' && b.what === 'loop') return a.sketch === b.sketch && a.entity === b.entity
  return false
}

/** The nearest point of lines on the screen, within reach. Exported for tests. */
export function nearestOnLines(
  lines: THREE.Vector3[][],
  toPixel: (p: THREE.Vector3) => THREE.Vector3,
  x: number,
  y: number,
  reach: number,
): { line: number; at: number; point: THREE.Vector3; depth: number } | null {
  let best: { line: number; at: number; point: THREE.Vector3; depth: number } | null = null
  let gap = reach
  lines.forEach((points, line) => {
    let before: THREE.Vector3 | null = null
    points.forEach((p, at) => {
      const s = toPixel(p.clone())
      if (before) {
        // Along the piece from the point before.
        const d = s.clone().sub(before)
        const long = d.x * d.x + d.y * d.y
        const t =
          long > 0 ? Math.min(1, Math.max(0, ((x - before.x) * d.x + (y - before.y) * d.y) / long)) : 1
        const off = Math.hypot(before.x + t * d.x - x, before.y + t * d.y - y)
        if (off < gap) {
          gap = off
          const point = points[at - 1].clone().lerp(p, t)
          best = { line, at: t < 0.5 ? at - 1 : at, point, depth: before.z + t * d.z }
        }
      } else if (Math.hypot(s.x - x, s.y - y) < gap) {
        gap = Math.hypot(s.x - x, s.y - y)
        best = { line, at, point: p.clone(), depth: s.z }
      }
      before = s
    })
  })
  return best
}

/** What lies under a pixel of what is wanted, the finest first. */
export function under(v: Viewer, x: number, y: number, wants: What[]): Under | null {
  const toPixel = v.toPixels(new THREE.Matrix4())
  const ray = v.ray(x, y)
  ray.firstHitOnly = true
  for (const what of ['handle', 'vertex', 'line', 'loop', 'edge'] as const) {
    if (!wants.includes(what)) continue
    const got = FINE[what](v, x, y, toPixel, ray)
    if (got) return got
  }
  if (wants.includes('edge') && !wants.includes('scan') && !wants.includes('face')) {
    // Nothing else is meant: a click anywhere on a face means its nearest edge.
    const near = edgeNearest(v, ray)
    if (near) return near
  }
  // A surface comes before a datum that runs through it or lies on it: where both are wanted, datums are
  // picked beside.
  const solid = surface(v, x, y, wants, ray)
  if (solid || !wants.includes('datum')) return solid
  return datumAxis(v, x, y, toPixel) ?? datumPlane(v, ray)
}

type Fine = (
  v: Viewer,
  x: number,
  y: number,
  toPixel: (p: THREE.Vector3) => THREE.Vector3,
  ray: THREE.Raycaster,
) => Under | null

const FINE: Record<'handle' | 'vertex' | 'line' | 'loop' | 'edge', Fine> = {
  handle(v, x, y) {
    const index = v.handles.findIndex((p) => {
      const s = v.project(p.toArray())
      return Math.hypot(s.x - x, s.y - y) < REACH.handle
    })
    return index < 0 ? null : { what: 'handle', index, shown: vec3(v.handles[index]) }
  },
  vertex(v, x, y, toPixel) {
    if (!v.layers.body.mesh?.visible) return null
    const ends = v.layers.body.edges.flatMap((e) =>
      [e.points[0], e.points[e.points.length - 1]].map((p) => ({ p, name: e.name })),
    )
    const near = ends.filter(({ p }) => {
      const s = toPixel(p.clone())
      return Math.hypot(s.x - x, s.y - y) < REACH.vertex
    })
    if (!near.length) return null
    const front = near.reduce((a, b) => (toPixel(a.p.clone()).z <= toPixel(b.p.clone()).z ? a : b))
    const edges = ends.filter(({ p }) => p.distanceTo(front.p) < 1e-6).map(({ name }) => name)
    const shown = vec3(front.p)
    return { what: 'vertex', body: v.layers.body.spec!.id, edges, place: shown, shown }
  },
  line(v, x, y, toPixel) {
    const picked = v.layers.lines.lines.map((l) =>
      l.tag ? (l.closed ? [...l.points, l.points[0]] : l.points) : [],
    )
    const got = nearestOnLines(picked, toPixel, x, y, REACH.line)
    if (!got) return null
    const line = v.layers.lines.lines[got.line]
    const at = got.at % line.points.length
    return {
      what: 'line',
      index: Number(line.tag),
      at,
      place: vec3(v.toScan(line.points[at])),
      shown: vec3(line.points[at]),
    }
  },
  loop(v, x, y, toPixel) {
    const got = nearestOnLines(
      v.loops.map((l) => l.points),
      toPixel,
      x,
      y,
      REACH.loop,
    )
    if (!got) return null
    const { sketch, entity, points } = v.loops[got.line]
    return { what: 'loop', sketch, entity, points, shown: vec3(got.point) }
  },
  /** An edge within reach on the screen that no face of the body hides. */
  edge(v, x, y, toPixel, ray) {
    const body = v.layers.body
    if (!body.mesh?.visible) return null
    const hit = ray.intersectObject(body.mesh, false)[0]
    const depth = hit ? toPixel(hit.point.clone()).z + HIDDEN : Infinity
    const shown = body.edges.map((e) => (e.points.some((p) => toPixel(p.clone()).z <= depth) ? e.points : []))
    const got = nearestOnLines(shown, toPixel, x, y, REACH.edge)
    if (!got || got.depth > depth) return null
    return edge(body.spec!.id, body.edges[got.line].name, got.point)
  },
}

/** The body's edge nearest the place that a ray hits. */
function edgeNearest(v: Viewer, ray: THREE.Raycaster): Under | null {
  const body = v.layers.body
  const hit = body.mesh?.visible ? ray.intersectObject(body.mesh, false)[0] : null
  if (!hit) return null
  let best: { name: EdgeName; gap: number } | null = null
  const on = new THREE.Vector3()
  const piece = new THREE.Line3()
  for (const e of body.edges)
    for (let k = 1; k < e.points.length; k++) {
      const near = piece.set(e.points[k - 1], e.points[k]).closestPointToPoint(hit.point, true, on)
      const gap = near.distanceTo(hit.point)
      if (!best || gap < best.gap) best = { name: e.name, gap }
    }
  return best && edge(body.spec!.id, best.name, hit.point)
}

const edge = (body: string, name: EdgeName, p: THREE.Vector3): Under => ({
  what: 'edge',
  body,
  name,
  place: vec3(p),
  shown: vec3(p),
})

function datumAxis(
  v: Viewer,
  x: number,
  y: number,
  toPixel: (p: THREE.Vector3) => THREE.Vector3,
): Under | null {
  for (const [id, o] of v.layers.datums.objects) {
    if (o instanceof THREE.Mesh) continue
    const at = o.geometry.getAttribute('position') as THREE.BufferAttribute
    const ends = Array.from({ length: at.count / 2 }, (_, i) =>
      [2 * i, 2 * i + 1].map((k) => new THREE.Vector3().fromBufferAttribute(at, k)),
    )
    const got = nearestOnLines(ends, toPixel, x, y, REACH.axis)
    if (got) return { what: 'datum', id, shown: vec3(got.point) }
  }
  return null
}
function datumPlane(v: Viewer, ray: THREE.Raycaster): Under | null {
  let best: { id: string; far: number; point: THREE.Vector3 } | null = null
  for (const [id, o] of v.layers.datums.objects) {
    const h = o instanceof THREE.Mesh ? ray.intersectObject(o, false)[0] : null
    if (h && (!best || h.distance < best.far)) best = { id, far: h.distance, point: h.point }
  }
  return best && { what: 'datum', id: best.id, shown: vec3(best.point) }
}

/** The foremost surface of those wanted: a scan's, or a face of the body. */
function surface(v: Viewer, x: number, y: number, wants: What[], ray: THREE.Raycaster): Under | null {
  const found: { far: number; at: () => Under }[] = []
  const { mesh, points, spec } = v.layers.scan
  const pickable = wants.includes('scan')
  if (pickable && mesh?.visible) {
    const h = ray.intersectObject(mesh, false)[0]
    const normal = h?.face && towards(h.face.normal.clone().transformDirection(mesh.matrixWorld), ray.ray)
    if (h && normal)
      found.push({
        far: h.distance,
        at: () => onScan(v, spec!.id, h.point, normal, h.faceIndex!, v.scanMotion),
      })
  }
  if (pickable && points?.visible) {
    const h = nearestDot(v, points, x, y, ray.ray)
    if (h) found.push({ far: 0, at: () => onScan(v, spec!.id, h.place, h.normal, h.index, v.scanMotion) })
  }
  const tide = v.layers.deviation
  if (wants.includes('tide') && tide.mesh) {
    const h = ray.intersectObject(tide.mesh, false)[0]
    const read = h && tide.at(h.faceIndex!, h.point)
    if (h && read)
      found.push({ far: h.distance, at: () => ({ what: 'tide', shown: vec3(h.point), ...read }) })
  }
  const body = v.layers.body
  if (wants.includes('face') && body.mesh?.visible) {
    const h = ray.intersectObject(body.mesh, false)[0]
    const name = h && body.faceAt(h.faceIndex!)
    if (h?.face && name)
      found.push({
        far: h.distance,
        at: () => ({
          what: 'face',
          body: body.spec!.id,
          name,
          place: vec3(h.point),
          normal: vec3(towards(h.face!.normal.clone(), ray.ray)),
          shown: vec3(h.point),
        }),
      })
  }
  return found.sort((a, b) => a.far - b.far)[0]?.at() ?? null
}

function onScan(
  v: Viewer,
  id: string,
  p: THREE.Vector3,
  n: THREE.Vector3,
  facet: number,
  motion: THREE.Matrix4,
): Under {
  const back = motion.clone().invert()
  return {
    what: 'scan',
    id,
    place: vec3(p.clone().applyMatrix4(back)),
    normal: n.clone().transformDirection(back).toArray() as Vec3,
    shown: vec3(p),
    facet,
    zone: v.layers.zones.at(facet),
  }
}

/** Of a cloud, the foremost point within a few pixels. */
function nearestDot(v: Viewer, points: THREE.Points, x: number, y: number, ray: THREE.Ray) {
  const position = points.geometry.getAttribute('position') as THREE.BufferAttribute
  const normals = points.geometry.getAttribute('normal') as THREE.BufferAttribute
  const toPixel = v.toPixels(points.matrixWorld)
  const p = new THREE.Vector3()
  let best = -1
  let score = Infinity
  for (let i = 0; i < position.count; i++) {
    toPixel(p.fromBufferAttribute(position, i))
    const off = Math.hypot(p.x - x, p.y - y)
    if (off > 7) continue
    const s = off * 0.002 + p.z
    if (s < score) [score, best] = [s, i]
  }
  if (best < 0) return null
  const normal = new THREE.Vector3().fromBufferAttribute(normals, best).transformDirection(points.matrixWorld)
  const place = p.fromBufferAttribute(position, best).applyMatrix4(points.matrixWorld).clone()
  return { place, normal: towards(normal, ray), index: best }
}

/** The scan shown beside the others that lies foremost at a pixel. */
export function besideUnder(v: Viewer, x: number, y: number): { id: string; place: THREE.Vector3 } | null {
  const ray = v.ray(x, y)
  let best: { id: string; place: THREE.Vector3; far: number } | null = null
  for (const [id, o] of v.layers.beside.objects) {
    const h = ray.intersectObject(o, false)[0]
    if (h && (!best || h.distance < best.far)) best = { id, place: h.point, far: h.distance }
  }
  return best
}
