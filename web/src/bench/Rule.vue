<script setup lang="ts">
/** The rule a pick grows by, with its angle live. */
import { computed } from 'vue'
import type { PickRecord } from '../api/types'
import { angleOf } from '../kinds/picks'
import { useHand } from '../state/hand'

const props = defineProps<{ pick: PickRecord; element: string | null }>()
const hand = useHand()
const angle = computed({
  get: () => angleOf(props.pick),
  set: (v: number) => {
    // eslint-disable-next-line vue/no-mutating-props -- the pick is part of the record in hand
    props.pick.angle_deg = Number(v)
    hand.showPick(hand.record!.scan as string, props.pick, props.element)
    hand.tryIt()
  },
})
</script>

<template>
  <div class="mt-1.5 rounded-sm border border-rule bg-white px-2 py-1.5">
    <label class="flex items-center gap-2"
      ><span class="w-[84px]">{{ pick.rule }}</span>
      <input
        v-model="angle"
        type="range"
        min="1"
        max="60"
        step="0.5"
        class="min-w-0 flex-1 accent-saffron"
        :aria-label="`${pick.rule} within, degrees`"
      />
      <span class="fig w-10 text-right">{{ Number(angle).toFixed(1) }}°</span>
    </label>
    <p class="text-[11px] text-soft">[ tightens, ] widens</p>
  </div>
</template>
