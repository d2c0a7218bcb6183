/** Scan and model in one plane, as lines of the view: the model's outline, the scan, hairs between. */
import type { Schemas } from '../../api/types'
import type { Entity } from '../../paper/shapes'
import { signed } from '../../state/format'
import type { LinePlan, Plan } from '../../view3d/plan'
import { course } from '../build/loops'

export type SectionTold = Schemas['SectionTold']
const HAIRS = 160 // at most, of one section

export function sectionPlan(plan: Plan, told: SectionTold): Partial<Plan> {
  const { origin, normal: n, u } = told
  const v = [n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]]
  const to = (p: number[]) => [0, 1, 2].map((k) => origin[k] + u[k] * p[0] + v[k] * p[1])
  const line = (points: number[][], colour: LinePlan['colour'], closed = false): LinePlan => ({
    points: points.map(to),
    closed,
    colour,
    in: 'view',
    through: true,
  })
  const model = told.model.map((e) => line(course(e as unknown as Entity), 'inkblue'))
  const places = told.scan.reduce((c, t) => c + t.points.length, 0)
  const every = Math.max(1, Math.ceil(places / HAIRS))
  const hairs = told.scan.flatMap((t) =>
    t.points.flatMap((p, i) =>
      i % every || t.distance[i] === null
        ? []
        : [line([p, t.tips[i]], t.distance[i]! > 0 ? 'brick' : 'slate')],
    ),
  )
  const tips = told.scan.map((t) => line(t.tips, 'saffron', t.closed))
  return {
    scanOn: false,
    bodyOn: false,
    bodies: [],
    deviation: null,
    lines: [...model, ...tips, ...hairs],
    tags: told.worst.map((w, k) => ({
      id: `worst ${k}`,
      place: w.place,
      text: signed(w.distance),
      tone: 'plain' as const,
    })),
  }
}
