import type { Schemas, Vec3 } from '../../api/types'
import type { Room } from '../../state/room'
import { defineKind } from '../kind'
import { needScan } from '../picks'
import ZonesForm from './ZonesForm.vue'
import { byHand, look, looked, zonesPlan, type ZonesTold } from './shown'

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
      says: () =>
        looked.next === 'join'
          ? 'Click the neighbour that joins it'
          : looked.next === 'give' && looked.to
            ? 'Click the neighbour that gets it'
            : looked.next
              ? `Click where the cut ${looked.from ? 'ends' : 'begins'}`
              : 'Click a surface to look at it',
      put: (at, r, room) => {
        if (at.what !== 'scan' || at.zone === undefined || at.zone < 0) return
        const change = (by: Partial<Record['by_hand'][number]> & { place: Vec3 }) => {
          r.by_hand = [...r.by_hand, byHand(by)]
          look(null)
          room.hand.again()
        }
        if (looked.next === 'join' && looked.place) change({ do: 'join', place: looked.place, to: at.place })
        else if (looked.next === 'give' && looked.from && looked.to) {
          if (at.zone !== looked.zone)
            change({ do: 'give', place: looked.from, to: looked.to, also: at.place })
        } else if (looked.next === 'split' || looked.next === 'give') {
          if (at.zone !== looked.zone) return
          if (!looked.from) looked.from = at.place
          else if (looked.next === 'give') looked.to = at.place
          else change({ do: 'split', place: looked.from, to: at.place })
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
