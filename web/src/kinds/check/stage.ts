import { partWords, useProving } from '../../check/proving'
import { signed } from '../../state/format'
import type { TagPlan } from '../../view3d/plan'
import { defineStage } from '../kind'
import DeviationPanel from './DeviationPanel.vue'
import { pinned } from './pinned'
import { seamsPlan, type SeamsTold } from './seams'
import { sectionPlan, type SectionTold } from './sections'

export default defineStage({
  key: 'Check',
  view: 'both',
  panel: DeviationPanel,
  slim: true,
  groups: ['deviation', 'sections'],
  /** While notes are placed, a click on the colours is one; else it lights the part that answered. */
  takes: (at) => {
    const p = useProving()
    if (at.what !== 'tide') return false
    if (p.pinning) pinned.value = at.shown
    else p.lit = at.face && p.lit?.words !== at.face ? { words: at.face, parts: [at.face] } : null
    return true
  },
  shows: (plan, room) => {
    const p = useProving()
    const { job, shown } = room
    const stone = shown.chosen ? job.byId.get(shown.chosen) : null
    const section = stone?.produces === 'section' ? job.toldOf<SectionTold>(stone) : null
    if (section) return sectionPlan(plan, section)
    const seams = stone?.produces === 'seams' ? job.toldOf<SeamsTold>(stone) : null
    if (seams) return seamsPlan(seams)
    const tags: TagPlan[] = plan.deviation
      ? p.pins.map((q, k) => ({
          id: `pin ${k}`,
          place: q.shown,
          text: `${k + 1}  ${q.value === null ? 'no answer' : signed(q.value)}  ${q.text || partWords(q.face)}`,
          tone: 'pin',
        }))
      : []
    return { tags }
  },
})
