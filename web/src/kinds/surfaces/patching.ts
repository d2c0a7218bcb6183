import type { Schemas, Vec3 } from '../../api/types'
import { cross } from '../../view3d/cross'
import { across, type LinePlan } from '../../view3d/plan'
import { bodyFigures, frameOf, showsBody } from '../build/bodied'
import { laidCurves } from '../curves/shown'
import { defineKind, type Figure } from '../kind'
import { needFrame } from '../picks'
import type { Room } from '../../state/room'
import PatchingForm from './PatchingForm.vue'

type Record = Schemas['PatchingStep']
type Told = Schemas['PatchingTold']

const needsCurves = (room: Room) =>
  needFrame(room) ?? (room.job.given('curve').length ? null : 'Draw curves on the scan first, in Sketch.')

const figures: Figure<Told>[] = [
  { key: 'patches', label: 'patches', of: (t) => `${t.patches} of ${t.spans} × ${t.spans} spans` },
  { key: 'p95', label: '95 % within', of: (t) => `${t.p95.toFixed(4)} mm` },
  { key: 'rms', label: 'rms', of: (t) => `${t.rms.toFixed(4)} mm · noise ${t.noise.toFixed(4)}` },
  {
    key: 'joints',
    label: 'joints turn',
    of: (t) =>
      t.patches > 1
        ? `${t.joints.angle_p95.toFixed(2)}° · most ${t.joints.angle_max.toFixed(2)}°`
        : 'one patch',
  },
  {
    key: 'rims',
    label: 'off the curves',
    of: (t) => (t.rims === null ? 'closed' : `${t.rims.toFixed(4)} mm at most`),
  },
  {
    key: 'meeting',
    label: 'meets others',
    of: (t) =>
      t.meeting
        ? `gap ${t.meeting.gap.toFixed(4)} mm · turns ${t.meeting.angle.toFixed(2)}°`
        : 'none beside it',
  },
  {
    key: 'bend',
    label: 'bends apart',
    of: (t) =>
      t.meeting ? `${t.meeting.bend.toPrecision(2)} of ${t.meeting.bent.toPrecision(2)} / mm` : '–',
  },
  ...(bodyFigures as Figure<Told>[]),
]

export default defineKind<Record, Told>({
  kind: 'patching',
  stage: 'Build',
  title: 'Patches',
  says: 'Smooth patches between curves that cross or meet: inside one loop, or in a whole net.',
  form: PatchingForm,
  figures,
  ready: (r) => r.curves.length > 0 || 'Name the curves they lie between',
  verb: () => 'Lay patches',
  slots: {
    turned: {
      takes: ['scan'],
      says: 'Click a region of the net: it is left open, or filled again',
      put: (at, r, room) => {
        if (at.what !== 'scan') return
        r.turned = [...r.turned, at.place]
        room.hand.tryIt(0)
      },
    },
    marks: { takes: ['scan'], says: 'Mark what the patches do not follow: it is bridged', marks: 'later' },
  },
  shows: (plan, r, p, room) => {
    const told = room.hand.told as Told | null
    const size = 0.006 * across(room.job.scan)
    const drawn = laidCurves(plan, room).lines!
    const edges: LinePlan[] = (told?.edges ?? []).map((points) => ({
      points,
      closed: false,
      colour: 'saffron',
      through: false,
    }))
    const regions =
      room.hand.slot === 'turned'
        ? (told?.regions ?? []).flatMap((g) =>
            cross(g.place as Vec3, size, g.filled ? 'inkblue' : 'saffron', true),
          )
        : []
    return { ...showsBody(plan, r, p, room), lines: [...drawn, ...edges, ...regions] }
  },
  tools: [
    {
      id: 'patches',
      name: 'Patches',
      says: 'Smooth patches between curves: inside a loop, or in a net drawn on the scan',
      also: 'patch fill boundary net n-sided four-sided blend curves network tangent curvature surface',
      group: 'surfaces',
      place: 2,
      needs: needsCurves,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.model = true
      },
      record: (room) => ({
        name: room.job.freeName('Patches'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        curves: room.job.given('curve').map((s) => s.id),
        whole: false,
        turned: [],
        marks: [],
        beside: [],
        meets: 'tangent',
        closeness: 0,
      }),
    },
  ],
})
