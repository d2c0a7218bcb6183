<script setup lang="ts">
/** What of a join is shown: the scans in their colours, the merged mesh, or where they strain. */
import { computed } from 'vue'
import { useShown } from '../../state/shown'

const props = defineProps<{ mesh: boolean }>()
const shown = useShown()
const ways = computed(() =>
  (
    [
      ['scans', 'Scans'],
      ['mesh', 'Mesh'],
      ['apart', 'Apart'],
    ] as const
  ).filter(([v]) => v !== 'mesh' || props.mesh),
)
const now = computed(() => (!props.mesh && shown.show.joined === 'mesh' ? 'scans' : shown.show.joined))
</script>

<template>
  <div class="mt-2 flex gap-1.5" role="group" aria-label="Shown">
    <button
      v-for="[v, name] in ways"
      :key="v"
      class="btn flex-1 !px-1"
      :class="{ 'btn-on': now === v }"
      :aria-pressed="now === v"
      @click="shown.show.joined = v"
    >
      {{ name }}
    </button>
  </div>
  <p v-if="now === 'apart'" class="mt-1.5 text-soft">
    <template v-if="mesh"
      >How far the scans lie from the mesh: bone where they agree, umber at
      <span class="fig">{{ shown.reach.toFixed(3) }}</span> mm.</template
    >
    <template v-else
      >How far each scan lies from the others: bone where they agree, umber at
      <span class="fig" data-figure="strain">{{ shown.reach.toFixed(3) }}</span> mm; grey where one alone
      saw.</template
    >
  </p>
</template>
