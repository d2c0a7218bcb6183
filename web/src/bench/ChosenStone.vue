<script setup lang="ts">
/** What the stone chosen on the wall says of itself. */
import { computed } from 'vue'
import type { DatumLine } from '../api/types'
import { mm, whole } from '../state/format'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'

const j = useJob()
const shown = useShown()
const stone = computed(() => (shown.chosen ? (j.byId.get(shown.chosen) ?? null) : null))
const datum = computed(() =>
  stone.value?.produces === 'datum' ? (stone.value.told as unknown as DatumLine) : null,
)
</script>

<template>
  <section v-if="stone?.says" class="section">
    <h3>{{ stone.name }}</h3>
    <p class="note mt-1.5">{{ stone.says }}</p>
  </section>
  <section v-if="stone && datum?.facets" class="section">
    <h3>{{ stone.name }}</h3>
    <p class="fig mt-1">{{ datum.says }}</p>
    <p class="text-soft">scatter {{ mm(datum.scatter) }} mm over {{ whole(datum.facets) }} facets</p>
  </section>
</template>
