import type { Schemas } from '../../api/types'
import { mm, signed } from '../../state/format'
import { defineKind } from '../kind'
import { needFrame } from '../picks'
import { sectionPlan } from './sections'

type Record = Schemas['SectionStep']
type Told = Schemas['SectionTold']

export default defineKind<Record, Told>({
  kind: 'section',
  stage: 'Check',
  title: 'Section',
  says: 'Scan and model cut by one plane. Hairs draw the distance between them, many times over.',
  tools: [
    {
      id: 'section',
      name: 'Section',
      says: 'Scan and model in one plane, distances drawn',
      also: 'cut slice cross-section hairs',
      group: 'sections',
      needs: (room) =>
        needFrame(room) ?? (room.job.body || room.job.last('model') ? null : 'Lay a body first.'),
      record: (room) => ({
        name: room.job.freeName('Section'),
        scan: room.job.scan!.id,
        frame: room.job.frame!.id,
        body: (room.job.body ?? room.job.last('model'))!.id,
        axis: room.shown.cut?.axis ?? 'z',
        on: null,
        offset: Number((room.shown.cutPlace ?? 0).toPrecision(4)),
        reach: null,
        hair: null,
      }),
    },
  ],
  verb: () => 'Lay section',
  shows: (plan, _r, preview) => (preview?.summary?.scan ? sectionPlan(plan, preview.summary) : {}),
  figures: [
    { key: 'rms', label: 'rms', of: (t) => `${mm(t.rms)} mm` },
    { key: 'mean', label: 'mean', of: (t) => `${signed(t.mean)} mm` },
    { key: 'most', label: 'at most', of: (t) => `${mm(t.most)} mm` },
    { key: 'hair', label: 'hairs drawn', of: (t) => `${t.hair} ×` },
  ],
})
