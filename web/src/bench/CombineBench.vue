<script setup lang="ts">
/** Several clouds made one. */
import { computed } from 'vue'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const clouds = computed(() => j.scans.filter((x) => (x.summary as any).is === 'cloud' && x.id !== r.value.id && (j.tips.includes(x) || r.value.scans.includes(x.id))))
function toggle(id: string) {
  r.value.scans = r.value.scans.includes(id) ? r.value.scans.filter((x: string) => x !== id) : [...r.value.scans, id]
  j.preview = null
  if (r.value.scans.length > 1) j.tryIt(0)
}
if (r.value.scans.length > 1) j.tryIt(0)
</script>

<template>
  <Head title="Combine clouds" says="One cloud of several that lie in the same coordinates; where two have the same surface, the first in the list stays." />
  <section class="section">
    <h3>Give</h3>
    <label v-for="c in clouds" :key="c.id" class="mt-1 flex items-center gap-2"><input type="checkbox" :checked="r.scans.includes(c.id)" class="accent-[#23262A]" @change="toggle(c.id)" />{{ c.name }} <span class="fig ml-auto text-soft">{{ (c.summary as any).points.toLocaleString('en') }}</span></label>
    <label class="mt-2 flex items-center gap-2">one layer within <input type="number" class="field fig w-24" min="0.001" step="0.01" :value="r.layer" placeholder="6 × scatter" @change="r.layer = Number(($event.target as HTMLInputElement).value) || null; j.tryIt(0)" /> mm</label>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !j.previewing" class="mt-1.5 text-soft">Tick two clouds or more.</p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1"><dt>points</dt><dd class="fig">{{ s.points.toLocaleString('en') }}</dd><dt>doubled, dropped</dt><dd class="fig" data-figure="dropped">{{ s.dropped.toLocaleString('en') }}</dd><dt>layer</dt><dd class="fig">{{ s.layer.toFixed(3) }} mm</dd></dl>
  </section>
</template>
