/** Brings the layers of a view to what a plan says; only what changed is drawn anew. */
import * as THREE from 'three'
import type { Stone } from '../api/types'
import type { Lit } from '../state/hand'
import { geometry } from '../api/client'
import type { DatumSpec } from './layers/datums'
import type { Line } from './layers/lines'
import type { LinePlan, Plan } from './plan'
import { rimOf, type Rimmed } from './rim'
import type { Shine } from './shine'
import { matrix4, vector, type Colour } from './stone'
import type { Viewer } from './viewer'

export type Drawn = {
  job: number
  plan: Plan
  lit: Lit | null
  edges: boolean
  colours: boolean
  ghost: boolean
  shine: Shine
  /** Parts of a deviation that are lit. */
  parts: string[] | null
  stone: (id: string) => Stone | undefined
}

/** Draws one plan after the other on a viewer. `failed` is told what could not be fetched. */
export function drawer(viewer: Viewer, failed: (e: Error) => void, loading: (what: string) => void) {
  const seen = new Map<string, unknown>()
  let framed = ''
  let newest: Drawn | null = null
  let drawing = false

  /** Whether a part is another than last time. */
  const changed = (part: string, value: unknown) => {
    const label = typeof value === 'string' ? value : JSON.stringify(value)
    if (seen.get(part) === label) return false
    seen.set(part, label)
    return true
  }

  /** The newest wish is drawn once what is being drawn is there; those between are passed over. */
  async function draw(d: Drawn) {
    newest = d
    if (drawing) return
    drawing = true
    while (newest) {
      const now: Drawn = newest
      newest = null
      await once(now)
    }
    drawing = false
  }
  async function once(d: Drawn) {
    const { plan, job } = d
    const { layers } = viewer
    const scan = plan.scan && {
      ...plan.scan,
      job,
      visible: plan.scanOn,
      edges: d.edges,
      colours: d.colours,
    }
    try {
      if (changed('scan', scan)) {
        const fetches = scan?.key !== layers.scan.spec?.key
        if (fetches) {
          seen.delete('lit')
          seen.delete('tide')
          seen.delete('strain')
          loading('Fetching the scan')
        }
        try {
          await layers.scan.set(scan)
        } finally {
          if (fetches) loading('')
        }
      }
      if (changed('beside', plan.beside)) await layers.beside.set(plan.beside.map((s) => ({ ...s, job })))
      const body = plan.body && { ...plan.body, job, visible: plan.bodyOn, ghost: d.ghost, shine: d.shine }
      if (changed('body', body)) await layers.body.set(body)
      if (changed('bodies', plan.bodies)) await layers.bodies.set(plan.bodies.map((b) => ({ ...b, job })))
      const matrix = JSON.stringify(plan.matrix)
      frameView(d, matrix)
      drawLines(d)
      await drawColours(d, matrix)
    } catch (e) {
      failed(e as Error)
    }
  }

  /** Fitted anew where something else is looked at: other scans, or the same in another frame. */
  function frameView({ plan }: Drawn, matrix: string) {
    if (plan.staysPut) return
    const label = JSON.stringify([
      !!plan.scan || !!plan.body,
      plan.joined ? [plan.scan?.matrix, plan.beside.map((s) => s.matrix)] : [matrix, plan.beside.length > 0],
      plan.joined,
    ])
    if (label !== framed && (viewer.layers.scan.object || viewer.layers.body.mesh)) {
      framed = label
      viewer.fit(false)
    }
  }

  async function drawColours(d: Drawn, matrix: string) {
    const { plan, job } = d
    const { layers } = viewer
    const tide = plan.tide && {
      job,
      key: plan.tide.key,
      scan: plan.tide.scan,
      name: plan.tide.name,
    }
    const deviation = plan.deviation && { ...plan.deviation, job, lit: d.parts }
    if (changed('deviation', deviation)) await layers.deviation.set(deviation)
    const strain = plan.strain && { ...plan.strain, job }
    const wasTide = changed('tide', tide)
    const wasStrain = changed('strain', strain)
    if (wasTide && !strain) await layers.tide.set(tide && { ...tide, own: plan.tide?.own })
    if (wasStrain) await layers.strain.set(strain)
    const zones = plan.zones && plan.scanOn && plan.scan?.key === plan.zones.scan ? plan.zones : null
    if (changed('zones', zones ? [zones.key, zones.scan, zones.chosen, matrix] : null))
      await layers.zones.set(zones && { ...zones, job })
    const lit = plan.litBy ? await litBy(job, plan) : d.lit
    const label = lit
      ? `${lit.tone} ${lit.facets.length} ${checksum(lit.facets)} ${plan.scanOn} ${matrix}`
      : ''
    if (changed('lit', label)) layers.lit.set(lit)
  }
  async function litBy(job: number, plan: Plan): Promise<Lit | null> {
    const by = plan.litBy!
    if (!plan.scan) return null
    const b = await geometry(job, by.key, 'also', plan.scan.key, by.name)
    const some: number[] = []
    ;(b.arrays.values as Uint8Array).forEach((v, i) => v && some.push(i))
    return { facets: Uint32Array.from(some), tone: by.tone }
  }

  let lastLines: LinePlan[] = []
  let lastLabel = ''
  function drawLines(d: Drawn) {
    const { plan } = d
    const f = matrix4(plan.matrix)
    const place = (p: number[], inView?: 'view') => (inView ? vector(p) : vector(p).applyMatrix4(f))
    viewer.handles = plan.handles.map((p) => place(p))
    if (changed('handles', viewer.handles)) viewer.layers.handles.set(viewer.handles)
    viewer.loops = plan.loops.map((l) => ({ ...l, points: l.points.map(vector) }))
    const rest = JSON.stringify([plan.edges, plan.handles, plan.matrix, plan.body?.key, viewer.loops.length])
    const same =
      rest === lastLabel &&
      plan.lines.length === lastLines.length &&
      plan.lines.every((l, i) => l.points === lastLines[i].points && l.colour === lastLines[i].colour)
    if (!same) {
      lastLines = plan.lines
      lastLabel = rest
      const lines: Line[] = plan.lines.map((l) => ({
        points: l.points.map((p) => place(p, l.in)),
        closed: l.closed,
        colour: l.colour,
        through: l.through ?? (l.colour !== 'inkblue' && l.colour !== 'ink'),
        tag: l.tag,
      }))
      for (const name of plan.edges.names) {
        const e = viewer.layers.body.edgeCalled(name)
        if (e) lines.push({ points: e.points, colour: 'saffron', through: true })
      }
      for (const l of viewer.loops) lines.push({ points: l.points, colour: 'inkblue', through: true })
      viewer.layers.lines.set(lines)
    }
    const datums = [
      ...plan.datums.flatMap((id) => datum(id, d.stone(id)?.told as unknown as DatumTold | undefined, f)),
      ...datum('', plan.made as DatumTold | undefined, f, 'saffron'),
      ...plan.planes.map((p) => plane(p, f)),
    ]
    if (changed('datums', datums)) viewer.layers.datums.set(datums)
  }
  return { draw }
}

const checksum = (a: Uint32Array) => a.reduce((t, v) => (t * 31 + v) | 0, 7)

function plane(p: Plan['planes'][number], f: THREE.Matrix4): DatumSpec {
  const origin = p.in ? vector(p.origin) : vector(p.origin).applyMatrix4(f)
  const normal = p.in ? vector(p.normal) : vector(p.normal).transformDirection(f)
  return { id: '', plane: { origin, normal, size: p.size }, colour: p.colour }
}

type DatumTold = {
  element: string
  area: number
  length?: number
  parameters: Rimmed & { point?: number[]; apex?: number[] }
}
/** A datum as it is drawn, a little larger than what it was read from. */
function datum(
  id: string,
  told: DatumTold | undefined,
  f: THREE.Matrix4,
  colour: Colour = 'plum',
): DatumSpec[] {
  if (!told?.parameters) return []
  const rim = rimOf(told.element, told.parameters)
  if (rim) return [{ id, rim: rim.map((p) => p.applyMatrix4(f)), colour }]
  const { point, center, apex, normal, direction } = told.parameters
  const at = vector(point ?? center ?? apex ?? [0, 0, 0]).applyMatrix4(f)
  if (!normal && !direction) return [{ id, point: { at, size: Math.sqrt(told.area || 100) * 0.25 }, colour }]
  const along = vector(normal ?? direction ?? [0, 0, 1]).transformDirection(f)
  if (normal) return [{ id, plane: { origin: at, normal: along, size: Math.sqrt(told.area) * 1.25 }, colour }]
  const length = (told.length ?? Math.sqrt(told.area)) * 1.6
  return [{ id, axis: { point: at, direction: along, length }, colour }]
}
