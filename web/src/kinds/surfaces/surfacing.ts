import type { Schemas, Vec3 } from '../../api/types'
import type { LinePlan } from '../../view3d/plan'
import { cross } from '../../view3d/cross'
import { across } from '../../view3d/plan'
import { bodyFigures, frameOf, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { needFrame } from '../picks'
import SurfacingForm from './SurfacingForm.vue'

/** `change`: the hand's own: what a click on the layout does. */
export type Surfacing = Schemas['SurfacingStep'] & { change?: 'split' | 'join' }
type Told = Schemas['SurfacingTold']

/** The layout's edges as lines over the scan. */
const edgeLines = (told: Told): LinePlan[] =>
  told.edges.map((points) => ({ points, closed: false, colour: 'inkblue' as const, through: false }))

export default defineKind<Surfacing, Told>({
  kind: 'surfacing',
  stage: 'Build',
  title: 'Organic body',
  says: 'Mark what is not organic; all else becomes one closed body of smooth patches.',
  form: SurfacingForm,
  tries: 'by itself',
  handOnly: ['change'],
  figures: bodyFigures,
  verb: () => 'Lay organic body',
  slots: {
    marks: {
      takes: ['scan'],
      says: 'Mark bores, flats and faces: they are left out and bridged',
      marks: 'later',
    },
    layout: {
      takes: ['scan'],
      says: (r) =>
        r.change === 'join'
          ? 'Click an edge of the layout: the strip of patches it leads through is taken out'
          : r.change === 'split'
            ? 'Click an edge of the layout: the strip of patches it leads through is split'
            : 'Drag a corner of the layout along the scan',
      put: (at, r, room) => {
        if (at.what !== 'scan' || !r.change) return
        r.by_hand = [...r.by_hand, { do: r.change, place: at.place, to: null }]
        room.hand.tryIt(0)
      },
      handles: {
        of: (_r, room) => ((room.hand.told as Told | null)?.corners ?? []) as Vec3[],
        move: (k, to, r, room) => {
          const told = room.hand.told as Told | null
          if (!told) return
          const place = told.corners[k] as Vec3
          const known = r.by_hand.find((c) => c.do === 'move' && c.to && same(c.to as Vec3, place))
          told.corners[k] = to
          if (known) known.to = to
          else r.by_hand = [...r.by_hand, { do: 'move', place, to }]
          room.hand.tryIt()
        },
      },
    },
  },
  shows: (plan, r, p, room) => {
    const told = room.hand.told as Told | null
    const size = 0.005 * across(room.job.scan)
    const corners = room.hand.slot === 'layout' ? (told?.corners ?? []) : []
    return {
      ...showsBody(plan, r, p, room),
      lines: [
        ...plan.lines,
        ...(told ? edgeLines(told) : []),
        ...corners.flatMap((c) => cross(c, size, 'saffron', true)),
      ],
    }
  },
  tools: [
    {
      id: 'surfacing',
      name: 'Organic body',
      says: 'A closed body of smooth patches over what is organic; bores, flats and faces are cut into it later',
      also: 'freeform patches nurbs quad layout grip organic surface',
      group: 'surfaces',
      place: 1,
      slot: 'marks',
      needs: needFrame,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.show.model = false
      },
      record: (room) => ({
        name: room.job.freeName('Organic body'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        marks: [],
        marked: 'left out',
        patches: 60,
        closeness: 0,
        by_hand: [],
      }),
    },
  ],
})

const same = (a: Vec3, b: Vec3) => Math.hypot(...a.map((c, k) => c - b[k])) < 1e-6
