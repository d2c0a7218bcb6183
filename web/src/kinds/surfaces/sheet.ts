import type { Schemas } from '../../api/types'
import { bodyFigures, frameOf, showsBody } from '../build/bodied'
import { defineKind } from '../kind'
import { needFrame } from '../picks'
import SheetForm from './SheetForm.vue'

type Record = Schemas['SheetStep']
type Told = Schemas['SheetTold']

export default defineKind<Record, Told>({
  kind: 'sheet',
  stage: 'Build',
  title: 'Sheet',
  says: 'One smooth surface over what is marked, past its rim or trimmed to it.',
  form: SheetForm,
  tries: 'taken back',
  figures: bodyFigures,
  ready: (r) => r.marks.length > 0 || 'Mark the area it lies over',
  verb: () => 'Lay sheet',
  slots: {
    marks: { takes: ['scan'], says: '', marks: true },
    closer: { takes: ['scan'], says: '', marks: true },
  },
  shows: (plan, r, p, room) => {
    const told = room.hand.told as Told | null
    const net = (told?.net ?? []).map((points) => ({
      points,
      closed: false,
      colour: 'inkblue' as const,
      through: false,
    }))
    return { ...showsBody(plan, r, p, room), lines: [...plan.lines, ...net] }
  },
  tools: [
    {
      id: 'sheet',
      name: 'Sheet',
      says: 'A smooth surface over an area of the scan, past its rim; told by brush where to lie closer',
      also: 'patch surface fit freeform skin nurbs region',
      group: 'surfaces',
      place: 3,
      slot: 'marks',
      needs: needFrame,
      begins: (room) => {
        room.shown.show.scan = true
        room.marks.by = 'zone'
      },
      record: (room) => ({
        name: room.job.freeName('Sheet'),
        scan: room.job.scan!.id,
        frame: frameOf(room),
        marks: [],
        ends: 'past the rim',
        reach: 5,
        sides: [],
        closeness: 0,
        closer: [],
        mirror: null,
      }),
    },
  ],
})
