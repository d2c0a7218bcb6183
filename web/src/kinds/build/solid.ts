import type { Schemas } from '../../api/types'
import { across } from '../../view3d/plan'
import type { Room } from '../../state/room'
import { datumAt } from '../frame/reading'
import { defineKind } from '../kind'
import { bodyFigures, frameOf, needsFrame, onModel, showsBody } from './bodied'
import { alongAxis } from './dragged'

type Record = Schemas['SolidStep']
type Told = Schemas['SolidTold']
const STANDS = ['cylinder', 'box', 'cone']
const AS_SAID = { value: null, source: 'rounded' as const }
/** What a datum of some kind is taken for, and which sizes it gives. */
const FROM: {
  [element: string]: { shape: Record['shape']; sizes: ('radius' | 'top_radius' | 'tube_radius')[] }
} = {
  cylinder: { shape: 'cylinder', sizes: ['radius'] },
  cone: { shape: 'cone', sizes: ['radius', 'top_radius'] },
  sphere: { shape: 'ball', sizes: ['radius'] },
  torus: { shape: 'ring', sizes: ['radius', 'tube_radius'] },
}
const typed = (value: number) => ({ value, source: 'typed' as const })

const dragged = (r: Record) => r.reach === 'heights' && STANDS.includes(r.shape)

/** What the datum that it is by is: the shape, and its sizes as it says them. */
function asDatum(r: Record, room: Room) {
  const told = room.job.byId.get(r.on ?? '')?.told as { element?: string } | undefined
  const from = FROM[told?.element ?? '']
  if (from) r.shape = from.shape
  else if (told?.element === 'plane' && r.result === 'surface') r.shape = 'flat'
  for (const size of from?.sizes ?? []) r[size] = { ...AS_SAID }
}

function begun(room: Room, name: string): Partial<Record> {
  return {
    name: room.job.freeName(name),
    frame: frameOf(room),
    scan: room.job.scan?.id ?? null,
    axis: 'z',
    on: null,
    shape: 'cylinder',
    result: 'solid',
    reach: 'heights',
    past: typed(Number((0.05 * across(room.job.scan)).toPrecision(1))),
    place_x: 0,
    place_y: 0,
    place_z: 0,
    radius: typed(5),
    top_radius: typed(0),
    tube_radius: typed(1),
    width: typed(10),
    depth: typed(10),
    low: typed(0),
    high: typed(10),
  }
}

export default defineKind<Record, Told>({
  kind: 'solid',
  stage: 'Build',
  title: (r) => (r.result === 'surface' ? 'Plain surface' : 'Solid'),
  says: 'A cylinder, box, cone, ball, ring or flat, or its surface; a datum gives its axis and its size.',
  figures: bodyFigures,
  shows: showsBody,
  verb: (_t, r) => `Lay ${r.shape}`,
  follows: (key, r, room) => {
    if (key === 'on') asDatum(r, room)
  },
  slots: {
    on: {
      takes: ['datum', 'scan'],
      says: (r) => `Click the surface it is on the scan, or its datum${dragged(r) ? '; drag its ends' : ''}`,
      put: async (at, r, room) => {
        const id = at.what === 'datum' ? at.id : await datumAt(at, room)
        if (!id || room.hand.record !== r) return
        r.on = id
        asDatum(r, room)
        room.hand.again(0)
      },
      handles: alongAxis<Record, Told>(['low', 'high'], () => 0, dragged),
    },
  },
  tools: [
    {
      id: 'solid',
      name: 'Solid',
      says: 'A cylinder, box, cone, ball or ring, from a datum or by numbers',
      also: 'primitive cylinder box cube cone sphere ball ring torus pin rod',
      group: 'push and turn',
      place: 3,
      slot: 'on',
      needs: needsFrame,
      begins: onModel,
      record: (room) => begun(room, 'Solid'),
    },
    {
      id: 'plain surface',
      name: 'Plain surface',
      says: 'A flat, cylinder, cone, ball or ring as a surface past the part, from a datum',
      also: 'primitive plane face sheet cylinder cone sphere torus tool trim',
      group: 'surfaces',
      place: 9,
      slot: 'on',
      needs: needsFrame,
      begins: onModel,
      record: (room) => ({
        ...begun(room, 'Surface'),
        shape: 'flat',
        result: 'surface',
        reach: 'part',
      }),
    },
  ],
})
