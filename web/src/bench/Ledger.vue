<script setup lang="ts">
/** The ledger: every value of the job, what was measured and what was chosen. */
import { computed } from 'vue'
import { useJob } from '../state/job'
import Chip from './Chip.vue'

const j = useJob()
const WANT: Record<string, string[]> = { Build: ['body', 'sketch'], Sketch: ['sketch'], Frame: ['datum'] }
const groups = computed(() =>
  j.allStones.filter((s) => (WANT[j.stage] ?? []).includes(s.produces) && (!j.chosenStone || j.byId.get(j.chosenStone)?.course === 'scan' || j.chosenStone === s.id || !j.job!.values.some((v) => v.step === j.chosenStone)))
    .map((s) => ({ stone: s, lines: j.job!.values.filter((v) => v.step === s.id) })).filter((g) => g.lines.length).reverse(),
)
</script>

<template>
  <section v-if="groups.length" class="section" aria-label="Ledger">
    <h3>Ledger</h3>
    <div v-for="g in groups" :key="g.stone.id" class="mt-2">
      <button class="text-[12px] font-semibold hover:underline" @click="j.chosenStone = j.chosenStone === g.stone.id ? null : g.stone.id">{{ g.stone.name }}</button>
      <Chip v-for="v in g.lines" :key="v.name" v-bind="v" :fixed="!v.path.length" @choose="(x, source) => j.choose(v.name, x, source)" />
    </div>
  </section>
</template>
