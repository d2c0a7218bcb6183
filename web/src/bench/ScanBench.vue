<script setup lang="ts">
/** The scans of the job: what each file holds, its unit and columns changeable; more can be brought in. */
import { computed, ref } from 'vue'
import { call } from '../api/client'
import Bring from '../shelf/Bring.vue'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const captures = computed(() => j.allStones.filter((x) => x.kind === 'scan'))
const shown = computed(() => j.byId.get(j.root(j.scan?.id ?? '')) ?? captures.value[0])
const sum = computed<any>(() => shown.value?.summary ?? {})
const more = ref(false)
const error = ref('')
async function bring(scans: Record<string, any>[]) {
  error.value = ''
  try {
    await call('POST', `/jobs/${j.job!.id}/scans`, { scans })
    more.value = false
    await j.refresh()
  } catch (e) {
    error.value = (e as Error).message
  }
}
const COLUMNS = ['x', 'y', 'z', 'nx', 'ny', 'nz', 'red', 'green', 'blue', 'intensity', 'skip']
</script>

<template>
  <template v-if="j.hand?.kind === 'scan'">
    <Head title="Scan" says="Read the same file again in another unit or with other columns; what rests on it follows." />
    <section class="section">
      <h3>Give</h3>
      <label class="mt-1.5 flex items-center gap-2">unit <select v-model="j.hand.record.units" class="field" aria-label="Unit of the file"><option v-for="u in ['mm', 'cm', 'm', 'in']" :key="u">{{ u }}</option></select></label>
      <template v-if="j.hand.record.layout">
        <p class="mt-2 text-soft">columns</p>
        <div class="mt-1 flex flex-wrap gap-1"><select v-for="(_, k) in j.hand.record.layout.columns" :key="k" v-model="j.hand.record.layout.columns[k]" class="field" :aria-label="`Column ${Number(k) + 1} holds`"><option v-for="c in COLUMNS" :key="c">{{ c }}</option></select></div>
      </template>
    </section>
  </template>
  <template v-else>
    <header class="px-3.5 pb-3 pt-3"><h2>{{ captures.length > 1 ? `${captures.length} scans` : (shown?.name ?? 'Scan') }}</h2><p class="text-soft">The original {{ captures.length > 1 ? 'files stay as they were' : 'file stays as it was' }} brought in.</p></header>
    <section v-if="shown" class="section">
      <h3>{{ captures.length > 1 ? shown.name : 'Evidence' }}</h3>
      <dl class="mt-1.5 grid grid-cols-[90px_1fr] gap-y-1">
        <dt class="text-soft">file</dt><dd class="truncate" :title="sum.file">{{ sum.file }}</dd>
        <template v-if="sum.triangles"><dt class="text-soft">triangles</dt><dd class="fig">{{ sum.triangles?.toLocaleString('en') }}</dd></template>
        <dt class="text-soft">points</dt><dd class="fig">{{ sum.points?.toLocaleString('en') }}</dd>
        <dt class="text-soft">size</dt><dd class="fig" data-figure="size">{{ sum.size }}</dd>
        <dt class="text-soft">unit</dt><dd>{{ (shown.record as any).units }}</dd>
        <template v-if="sum.coloured"><dt class="text-soft">colours</dt><dd>its own</dd></template>
        <dt class="text-soft">checksum</dt><dd class="fig truncate" :title="(shown.record as any).sha256">{{ (shown.record as any).sha256?.slice(0, 16) }}…</dd>
      </dl>
      <p v-if="shown.says" class="note mt-2">{{ shown.says }}</p>
      <button class="btn mt-2.5 w-full" @click="j.takeBack(shown)">Change unit or columns</button>
      <button class="btn mt-1.5 w-full" @click="j.stage = 'Clean'">Next: clean the scan</button>
      <button class="btn mt-1.5 w-full" @click="j.stage = 'Frame'">Sound already: put the part on its axes</button>
    </section>
    <section class="section">
      <button v-if="!more" class="btn w-full" @click="more = true">Bring in more scans</button>
      <Bring v-else small action="Add to the job" @ready="bring" />
      <p v-if="error" class="note-bad mt-2" role="alert">{{ error }}</p>
    </section>
  </template>
</template>
