import type { Schemas } from '../../api/types'
import type { LinePlan, Plan } from '../../view3d/plan'
import { defineKind } from '../kind'
import { needFrame } from '../picks'

type Record = Schemas['SeamsStep']
export type SeamsTold = Schemas['SeamsTold']

const COLOURS = { smooth: 'slate', kink: 'saffron', gap: 'brick' } as const

/** Edges by how faces meet, open rims, combs; over the model alone. */
export function seamsPlan(told: SeamsTold): Partial<Plan> {
  const line = (points: number[][], colour: LinePlan['colour']): LinePlan => ({
    points,
    closed: false,
    colour,
    in: 'view',
    through: false,
  })
  const combs = told.combs.map((c) => line(c, 'inkblue'))
  const seams = told.seams.map((s) => line(s.line, COLOURS[s.kind]))
  const rims = told.rims.map((r) => line(r, 'brick'))
  return { scanOn: false, bodyOn: true, deviation: null, lines: combs.length ? combs : [...seams, ...rims] }
}

export default defineKind<Record, SeamsTold>({
  kind: 'seams',
  stage: 'Check',
  title: 'Seams',
  says: 'How faces meet: gaps and angles along every edge two of them share; or how they bend, as combs.',
  verb: () => 'Lay seams',
  shows: (_plan, _r, preview) => (preview?.summary?.seams ? seamsPlan(preview.summary) : {}),
  figures: [
    { key: 'smooth', label: 'smooth', of: (t) => `${t.counts.smooth} edges, drawn grey-blue` },
    { key: 'kink', label: 'kinks', of: (t) => `${t.counts.kink}, drawn yellow` },
    { key: 'gaps', label: 'gaps', of: (t) => `${t.counts.gap}, drawn red` },
    { key: 'open', label: 'open edges', of: (t) => `${t.open_edges}, ${t.open_length.toPrecision(4)} mm` },
    {
      key: 'angle',
      label: 'turns',
      of: (t) => `${t.angle_p95.toFixed(2)}° at 95 % · most ${t.angle_max.toFixed(2)}°`,
    },
    { key: 'gap', label: 'widest gap', of: (t) => (t.gap < 1e-6 ? 'none' : `${t.gap.toFixed(5)} mm`) },
    {
      key: 'bend',
      label: 'bends most',
      of: (t) => (t.bend > 0 ? `R ${(1 / t.bend).toPrecision(3)} mm` : 'draw combs to see'),
    },
  ],
  tools: [
    {
      id: 'seams',
      name: 'Seams',
      says: 'Gaps and angles where faces meet, and combs of how they bend',
      also: 'gap angle continuity tangent curvature comb kink tolerance',
      group: 'sections',
      place: 2,
      needs: (room) =>
        needFrame(room) ?? (room.job.body || room.job.last('model') ? null : 'Lay a body first.'),
      begins: (room) => {
        room.shown.model = true
      },
      record: (room) => ({
        name: room.job.freeName('Seams'),
        frame: room.job.frame!.id,
        body: (room.job.body ?? room.job.last('model'))!.id,
        smooth: 0.5,
        gap: 0.005,
        show: 'seams',
      }),
    },
  ],
})
