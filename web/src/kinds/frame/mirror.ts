import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { needScan } from '../picks'

type Record = Schemas['MirrorStep']
type Told = Schemas['MirrorTold']

const percent = (v: number) => `${(100 * v).toFixed(1)} %`

export default defineKind<Record, Told>({
  kind: 'mirror',
  stage: 'Frame',
  title: 'Plane of symmetry',
  says: 'The plane in which the scan mirrors itself, over what of it does.',
  tools: [
    {
      id: 'mirror',
      name: 'Plane of symmetry',
      says: 'Where the scan mirrors itself, and how much of it',
      also: 'mirror middle symmetric halves',
      group: 'read',
      needs: needScan,
      record: (room: Room) => ({
        name: room.job.freeName('Symmetry'),
        scan: room.job.scan!.id,
        which: 1,
      }),
    },
  ],
  verb: () => 'Lay datum',
  figures: [
    { key: 'share', label: 'agrees', of: (t) => `${percent(t.share)} of the scan` },
    { key: 'rms', label: 'within', of: (t) => `${t.rms.toFixed(3)} mm rms` },
    {
      key: 'unlike',
      label: 'colours end at',
      of: (t) => `± ${t.unlike_mm.toPrecision(2)} mm, once mirrored`,
    },
    {
      key: 'place',
      label: 'place',
      of: (t) => `± ${Math.max(2 * t.place_uncertainty, 0.001).toFixed(3)} mm`,
    },
    { key: 'found', label: 'found', of: (t) => t.found.map(percent).join(', ') },
  ],
  shows: (plan, _, preview, room) => ({
    scanOn: true,
    // Each place by how far it lies off the scan once mirrored.
    tide:
      preview && room.hand.result && plan.scan
        ? { key: room.hand.result, scan: plan.scan.key, name: 'unlike' }
        : null,
    ...(preview?.summary.parameters && { made: preview.summary }),
    datums: plan.datums,
  }),
})
