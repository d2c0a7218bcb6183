import type { Schemas } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { needScan } from '../picks'
import ZonesForm from './ZonesForm.vue'
import { look, looked, zonesPlan, type ZonesTold } from './shown'

type Record = Schemas['ZonesStep']

export default defineKind<Record, ZonesTold>({
  kind: 'zones',
  stage: 'Zones',
  title: 'Read zones',
  says: 'The scan is split into the surfaces it is made of, from its own scatter.',
  form: ZonesForm,
  slots: {
    zone: {
      takes: ['scan'],
      says: () => (looked.joining ? 'Click the neighbour that joins it' : 'Click a surface to look at it'),
      put: (at, r, room) => {
        if (at.what !== 'scan' || at.zone === undefined || at.zone < 0) return
        if (looked.joining && looked.place) {
          r.by_hand = [...r.by_hand, { do: 'join', place: looked.place, kind: null, to: at.place }]
          look(null)
          room.hand.again()
        } else look(at.zone, at.place)
      },
    },
  },
  tools: [
    {
      id: 'zones',
      name: 'Read zones',
      says: 'Split the scan into flat, round and free surfaces',
      also: 'segment surfaces regions faces fillets',
      group: 'read',
      slot: 'zone',
      needs: needScan,
      begins: (room) => {
        room.shown.show.scan = true
        look(null)
      },
      record: (room: Room) => ({
        name: room.job.freeName('Zones'),
        scan: room.job.scan!.id,
        noise: null,
        smallest: null,
        by_hand: [],
      }),
    },
  ],
  ready: (_, preview) => (preview && preview.status !== 'failed') || 'The surfaces are being read',
  verb: (t) => (t ? `Keep ${t.count} surfaces` : 'Keep the surfaces'),
  shows: (plan, _, preview, room) => ({
    scanOn: true,
    bodyOn: false,
    tide: null,
    zones: preview && room.hand.result ? zonesPlan(room.hand.result, plan.scan?.key, preview.summary) : null,
  }),
})
