<script setup lang="ts">
/**
 * Scans that found no sure place: the reason, and the places they could have; one chosen is taken up as
 * pairs.
 */
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../../api/types'
import { useHand } from '../../state/hand'
import type { PlacementTold } from '../../view3d/plan'
import { useNames } from './useNames'
import { usePairing } from './usePairing'

type Record = Schemas['MatchStep']
type Left = PlacementTold['refused'][number]
const props = defineProps<{ refused: Left[] }>()
const hand = useHand()
const pairing = usePairing()
const { nameOf, numberOf } = useNames()
const record = computed(() => hand.record as unknown as Record)
/** What was found before one was chosen, so that another can be. */
const known = ref<{ [scan: string]: Left }>({})
watch(
  () => props.refused,
  (list) => {
    for (const x of list) known.value[x.scan] = x
  },
  { immediate: true },
)
const chosen = (x: Left) =>
  x.pairs.findIndex(
    (p) =>
      p.length > 0 &&
      record.value.pairs.some(
        (r) => r.moving === x.scan && JSON.stringify(r.moving_place) === JSON.stringify(p[0].moving_place),
      ),
  )
const shown = computed(() =>
  Object.values(known.value).filter((x) => props.refused.some((r) => r.scan === x.scan) || chosen(x) >= 0),
)
function take(x: Left, k: number) {
  const off = chosen(x) === k
  record.value.pairs = [
    ...record.value.pairs.filter((p) => p.moving !== x.scan),
    ...(off ? [] : (x.pairs[k] as Record['pairs'])),
  ]
  pairing.chosen = off ? null : x.scan
  hand.again()
}
</script>

<template>
  <ul v-if="shown.length" class="mt-2 space-y-1.5" aria-label="Left out">
    <li v-for="x in shown" :key="x.scan" class="note">
      <b class="font-semibold">{{ numberOf(x.scan) }} {{ nameOf(x.scan) }}</b>
      <template v-if="chosen(x) < 0"> left out, {{ x.reason }}. {{ x.why }}</template
      ><template v-else> lies as candidate {{ chosen(x) + 1 }}, chosen by you.</template>
      <div
        v-if="x.pairs.some((p) => p.length)"
        class="mt-1 flex flex-wrap items-center gap-1.5"
        role="group"
        :aria-label="`Candidates of ${nameOf(x.scan)}`"
      >
        <span class="text-soft">Could lie</span>
        <template v-for="(p, k) in x.pairs" :key="k"
          ><button
            v-if="p.length"
            class="btn !px-1.5 !py-0"
            :class="{ 'btn-on': chosen(x) === k }"
            :aria-pressed="chosen(x) === k"
            :title="`Agrees over ${Math.round(x.agree[k])} mm²; taken up as pairs`"
            @click="take(x, k)"
          >
            {{ k + 1 }}: <span class="fig">{{ Math.round(x.agree[k]).toLocaleString('en') }}</span> mm²
          </button></template
        >
      </div>
    </li>
  </ul>
</template>
