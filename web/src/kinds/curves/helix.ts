import type { Vec3 } from '../../api/types'
import { defineKind } from '../kind'
import { needFrame, pickAt } from '../picks'
import { frameOf } from '../build/bodied'
import HelixForm from './HelixForm.vue'
import { curveLine } from './shown'
import type { Record, Told } from './strip'
import UnrolledStrip from './UnrolledStrip.vue'

const rounded = () => ({ value: null, source: 'rounded' as const })

export default defineKind<Record, Told>({
  kind: 'helix',
  stage: 'Sketch',
  title: 'Helix',
  says: 'One click on the ridge or groove; the rest is read from the scan.',
  form: HelixForm,
  tries: 'taken back',
  ready: (r) => !!r.pick || 'Click the ridge on the scan',
  verb: () => 'Lay helix',
  beside: () => UnrolledStrip,
  slots: {
    pick: {
      takes: ['scan'],
      says: 'Click the ridge or groove',
      put: (at, r, room) => {
        r.pick = pickAt(at, 'same bend', null)
        if (r.pick) room.hand.tryIt(0)
      },
    },
    held: {
      takes: ['datum'],
      says: 'Click the axis it is held to',
      put: (at, r, room) => {
        if (at.what !== 'datum') return
        r.held = at.id
        if (r.pick) room.hand.tryIt(0)
      },
    },
  },
  shows: (plan, _r, _p, room) => {
    const told = room.hand.told as Told | null
    if (!told) return {}
    const [p, d] = told.axis as [Vec3, Vec3]
    const long = 0.75 * (told.strip.high - told.strip.low)
    const end = (s: number) => p.map((v, k) => v + s * long * d[k])
    return {
      scanOn: true,
      deviation: null,
      lines: [
        ...plan.lines,
        curveLine(told.shown, told.closed),
        { points: [end(-1), end(1)], closed: false, colour: 'plum', through: true },
      ],
    }
  },
  tools: [
    {
      id: 'helix',
      name: 'Helix',
      says: 'Read a screw line from one click on a ridge or groove, corrected on the unrolled strip',
      also: 'thread screw spiral pitch spring auger winding unrolled',
      group: 'in space',
      place: 3,
      slot: 'pick',
      needs: needFrame,
      begins: (room) => {
        room.shown.show.scan = true
        room.shown.show.model = false
      },
      record: (room) => ({
        name: room.job.freeName('Helix'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        pick: null,
        held: null,
        begins: null,
        begins_entity: null,
        on: 'crest',
        following: 'turns',
        pitch: rounded(),
        turns: rounded(),
        height: rounded(),
        crest: rounded(),
        root: rounded(),
        crest_end: rounded(),
        root_end: rounded(),
        even: false,
        hand: 'as read',
        shift: 0,
        pins: [],
        run_in: { value: 0, source: 'typed' },
        run_out: { value: 0, source: 'typed' },
      }),
    },
  ],
})
