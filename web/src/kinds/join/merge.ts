import type { Schemas } from '../../api/types'
import { whole } from '../../state/format'
import { STONES } from '../../view3d/stone'
import { defineKind } from '../kind'
import JoinForm from './JoinForm.vue'
import { laidPlacement, needPlaces } from './placing'

export default defineKind<Schemas['MergeStep'], Schemas['MergeTold']>({
  kind: 'merge',
  stage: 'Join',
  title: 'Merged mesh',
  says: 'Doubled layers go; what nothing saw stays open.',
  form: JoinForm,
  tools: [
    {
      id: 'merge',
      name: 'Merge',
      says: 'One mesh, each place the mean of what saw it best',
      also: 'unite fuse',
      group: 'bring together',
      place: 2,
      needs: needPlaces,
      begins: (room) => {
        room.shown.show.joined = 'mesh'
      },
      record: (room) => ({
        name: room.job.freeName('Merged'),
        placement: laidPlacement(room)!,
        resolution: null,
        noise: null,
        leave_out: [],
      }),
    },
  ],
  ready: (_r, preview) => (!!preview && preview.status !== 'failed') || 'Being worked out',
  verb: (t) => (t ? `Lay ${whole(t.triangles)} triangles` : 'Merge the scans'),
  shows: (plan, _r, _p, room) => {
    const mesh = room.hand.result
    if (!mesh || room.shown.show.joined === 'scans') return {}
    return {
      scan: { id: '', key: mesh, colour: STONES[0], matrix: room.job.matrix, part: false },
      beside: [],
      joined: false,
      strain: null,
      tide: room.shown.show.joined === 'apart' ? { key: mesh, scan: mesh, name: 'apart' } : plan.tide,
    }
  },
  laid: (room) => {
    room.shown.show.joined = 'mesh'
    room.job.tip = null
  },
})
