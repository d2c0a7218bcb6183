<script setup lang="ts">
/** A stage's tools as a short row: for stages whose panel is looked at far more often than they are used. */
import { computed } from 'vue'
import { toolGroups } from '../kinds/registry'
import type { StageKey } from '../kinds/stages'
import { usePointed } from '../state/pointed'
import { useRoom } from '../state/room'
import PinTool from './PinTool.vue'

const props = defineProps<{ stage: StageKey }>()
const room = useRoom()
const pointed = usePointed()
const tools = computed(() => toolGroups(props.stage, room).flatMap((g) => g.tools))
/** What is missing before the first of those that cannot be used. */
const missing = computed(() => tools.value.map((t) => t.needs(room)).find((m) => m) ?? '')
</script>

<template>
  <div class="px-3.5 pt-3" role="group" :aria-label="`Tools of ${props.stage}`">
    <div class="flex gap-1.5">
      <span v-for="t in tools" :key="t.id" class="flex flex-1 gap-0.5">
        <button
          class="btn flex-1 !px-2"
          :disabled="!!t.needs(room)"
          :title="t.needs(room) ?? t.says"
          @mouseenter="pointed.tool = t"
          @focus="pointed.tool = t"
          @click="room.hand.start(t)"
        >
          {{ t.name }}
        </button>
        <PinTool :tool="t" />
      </span>
    </div>
    <p v-if="missing" class="mt-1.5 text-soft">{{ missing }}</p>
  </div>
</template>
