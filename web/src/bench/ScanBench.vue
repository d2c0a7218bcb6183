<script setup lang="ts">
import { computed } from 'vue'
import { useJob } from '../state/job'

const j = useJob()
const s = computed(() => j.allStones.find((x) => x.produces === 'scan'))
const sum = computed<any>(() => s.value?.summary ?? {})
</script>

<template>
  <header class="px-3.5 pb-3 pt-3"><h2>{{ s?.name ?? 'Scan' }}</h2><p class="text-soft">The original file stays as it was brought in.</p></header>
  <section v-if="s" class="section">
    <h3>Evidence</h3>
    <dl class="mt-1.5 grid grid-cols-[90px_1fr] gap-y-1">
      <dt class="text-soft">file</dt><dd class="truncate">{{ sum.file }}</dd>
      <dt class="text-soft">triangles</dt><dd class="fig">{{ sum.triangles?.toLocaleString('en') }}</dd>
      <dt class="text-soft">points</dt><dd class="fig">{{ sum.points?.toLocaleString('en') }}</dd>
      <dt class="text-soft">size</dt><dd class="fig">{{ sum.size }}</dd>
      <dt class="text-soft">unit</dt><dd>{{ (s.record as any).units }}</dd>
      <dt class="text-soft">checksum</dt><dd class="fig truncate" :title="(s.record as any).sha256">{{ (s.record as any).sha256?.slice(0, 16) }}…</dd>
    </dl>
    <p v-if="s.says" class="note mt-2">{{ s.says }}</p>
    <button v-if="!j.hand" class="btn mt-3 w-full" @click="j.stage = 'Frame'">Next: put the part on its axes</button>
  </section>
  <section v-if="j.hand?.kind === 'scan'" class="section">
    <h3>Give</h3>
    <label class="mt-1.5 flex items-center gap-2">name <input v-model="j.hand.record.name" class="field flex-1" /></label>
    <label class="mt-1.5 flex items-center gap-2">unit <select v-model="j.hand.record.units" class="field"><option v-for="u in ['mm', 'cm', 'm', 'in']" :key="u">{{ u }}</option></select></label>
  </section>
</template>
