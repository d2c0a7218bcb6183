<script setup lang="ts">
/** The ledger: every value of the job, what was measured and what was chosen. */
import { computed } from 'vue'
import { call } from '../api/client'
import type { Suggestion } from '../api/types'
import { stageOf } from '../kinds/registry'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import Chip from './Chip.vue'

const j = useJob()
const shown = useShown()
const values = computed(() => j.job?.values ?? [])
/** Of one stone where it has values, else of all that the stage lists, the newest first. */
const groups = computed(() => {
  const gives = stageOf(shown.stage)?.ledger ?? []
  const only = values.value.some((v) => v.step === shown.chosen) ? shown.chosen : null
  return j.allStones
    .filter((s) => gives.includes(s.produces) && (!only || s.id === only))
    .map((stone) => ({ stone, lines: values.value.filter((v) => v.step === stone.id) }))
    .filter((g) => g.lines.length)
    .reverse()
})
const suggest = (name: string) =>
  call<Suggestion[]>('GET', `/jobs/${j.job!.id}/values/${encodeURIComponent(name)}`)
</script>

<template>
  <section v-if="groups.length" class="section" aria-label="Ledger">
    <div class="flex items-center">
      <h3 class="flex-1">Ledger</h3>
      <button
        class="text-[11.5px] underline"
        :aria-pressed="shown.ledger"
        title="Every value of the job in a table (L)"
        @click="shown.ledger = !shown.ledger"
      >
        {{ shown.ledger ? 'close the table' : 'all values' }}
      </button>
    </div>
    <div v-for="g in groups" :key="g.stone.id" class="mt-2">
      <button
        class="text-[12px] font-semibold hover:underline"
        @click="shown.chosen = shown.chosen === g.stone.id ? null : g.stone.id"
      >
        {{ g.stone.name }}
      </button>
      <Chip
        v-for="v in g.lines"
        :key="v.name"
        v-bind="v"
        :suggest="() => suggest(v.name)"
        readable
        @choose="(x, source) => j.choose(v.name, x, source)"
        @read="(reading) => j.act('POST', '/values/reading', { name: v.name, reading })"
      />
    </div>
  </section>
</template>
