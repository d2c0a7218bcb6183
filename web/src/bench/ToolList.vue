<script setup lang="ts">
/** A stage's tools in short groups; those that cannot be used yet say what is missing. */
import { computed, ref, watch } from 'vue'
import type { Tool } from '../kinds/kind'
import { stageOf, toolGroups } from '../kinds/registry'
import type { StageKey } from '../kinds/stages'
import { usePointed } from '../state/pointed'
import { useRoom } from '../state/room'
import PinTool from './PinTool.vue'

const props = defineProps<{ stage: StageKey }>()
const room = useRoom()
const stage = computed(() => stageOf(props.stage))
const groups = computed(() => toolGroups(props.stage, room))
const over = ref<Tool | null>(null)
const pointed = usePointed()
watch(over, (t) => (pointed.tool = t))
</script>

<template>
  <section v-if="groups.length" class="section" :class="{ '!border-t-0': !stage?.panel }">
    <h2 v-if="!stage?.panel">{{ props.stage }}</h2>
    <div v-for="g in groups" :key="g.group" class="mt-2">
      <h3 v-if="g.group" class="mb-1">{{ g.group }}</h3>
      <ul :class="stage?.columns ? 'grid grid-cols-2 gap-x-1.5 gap-y-1' : 'space-y-1.5'">
        <li
          v-for="t in g.tools"
          :key="t.id"
          class="flex gap-1"
          @mouseenter="over = t"
          @mouseleave="over = null"
        >
          <button
            class="slot flex-1 !items-start flex-col !gap-0 disabled:opacity-50"
            :disabled="!!t.needs(room)"
            :title="t.says"
            @focus="over = t"
            @blur="over = null"
            @click="room.hand.start(t)"
          >
            <b class="font-semibold">{{ t.name }}</b>
            <span v-if="!stage?.columns" class="text-soft">{{ t.needs(room) ?? t.says }}</span>
          </button>
          <PinTool :tool="t" />
        </li>
      </ul>
    </div>
    <p v-if="stage?.columns" class="mt-2 min-h-[2.8em] text-soft">
      <template v-if="over">{{ over.needs(room) ?? over.says }}</template>
    </p>
  </section>
  <section v-else-if="stage?.empty" class="section !border-t-0">
    <h2>{{ props.stage }}</h2>
    <p class="mt-2 text-soft">{{ stage.empty }}</p>
  </section>
</template>
