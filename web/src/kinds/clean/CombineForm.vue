<script setup lang="ts">
/** Several clouds made one. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { typed, whole } from '../../state/format'
import { isCloud, scanLine } from '../../state/job'
import { useStep } from '../useStep'

const { job: j, hand, r, told: s } = useStep<Schemas['CombineStep'], Schemas['CombineTold']>()
const clouds = computed(() =>
  j.scans.filter(
    (x) => isCloud(x) && x.id !== r.value.id && (j.tips.includes(x) || r.value.scans.includes(x.id)),
  ),
)
function toggle(id: string) {
  r.value.scans = r.value.scans.includes(id) ? r.value.scans.filter((x) => x !== id) : [...r.value.scans, id]
  hand.preview = null
  if (r.value.scans.length > 1) hand.tryIt(0)
}
function layer(e: Event) {
  r.value.layer = typed((e.target as HTMLInputElement).value)
  hand.tryIt(0)
}
if (r.value.scans.length > 1) hand.tryIt(0)
</script>

<template>
  <Head
    title="Combine clouds"
    says="One cloud of several that lie in the same coordinates; where two overlap, the first stays."
  />
  <section class="section">
    <h3>Give</h3>
    <label v-for="c in clouds" :key="c.id" class="mt-1 flex items-center gap-2"
      ><input type="checkbox" :checked="r.scans.includes(c.id)" class="accent-ink" @change="toggle(c.id)" />{{
        c.name
      }}
      <span class="fig ml-auto text-soft">{{ whole(scanLine(c).points) }}</span></label
    >
    <label class="mt-2 flex items-center gap-2"
      >one layer within
      <input
        v-typing
        type="number"
        class="field fig w-24"
        min="0.001"
        step="0.01"
        :value="r.layer"
        placeholder="6 × scatter"
        @change="layer"
      />
      mm</label
    >
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !hand.previewing" class="mt-1.5 text-soft">Tick two clouds or more.</p>
    <dl v-if="s" class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1">
      <dt>points</dt>
      <dd class="fig">{{ whole(s.points) }}</dd>
      <dt>doubled, dropped</dt>
      <dd class="fig" data-figure="dropped">{{ whole(s.dropped) }}</dd>
      <dt>layer</dt>
      <dd class="fig">{{ s.layer.toFixed(3) }} mm</dd>
    </dl>
  </section>
</template>
