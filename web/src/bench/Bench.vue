<script setup lang="ts">
/**
 * The bench: the one thing being done; with nothing in hand, what can be made of this, the stage's tools and
 * the belt.
 */
import { computed } from 'vue'
import { stageOf } from '../kinds/registry'
import { useMade } from '../state/made'
import { useRoom } from '../state/room'
import BeltBar from './BeltBar.vue'
import ChosenStone from './ChosenStone.vue'
import InHand from './InHand.vue'
import Ledger from './Ledger.vue'
import MadeOfThis from './MadeOfThis.vue'
import SlimTools from './SlimTools.vue'
import ToolList from './ToolList.vue'

const { hand, shown } = useRoom()
const made = useMade()
const stage = computed(() => stageOf(shown.stage))
</script>

<template>
  <aside
    class="flex w-[316px] shrink-0 flex-col border-l border-rule bg-sheet"
    aria-label="Bench"
    :aria-busy="hand.trying"
  >
    <InHand v-if="hand.held && hand.kind" />
    <template v-else>
      <div class="min-h-0 flex-1 overflow-y-auto">
        <MadeOfThis v-if="made.given.length" />
        <SlimTools v-if="stage?.slim && !shown.proof && !made.given.length" :stage="shown.stage" />
        <component :is="stage.panel" v-if="stage?.panel" v-show="!made.given.length" />
        <template v-if="!shown.proof && !made.given.length">
          <ToolList v-if="!stage?.slim" :stage="shown.stage" />
          <ChosenStone />
          <Ledger />
        </template>
      </div>
      <BeltBar v-if="!shown.proof" />
    </template>
  </aside>
</template>
