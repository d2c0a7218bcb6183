<script setup lang="ts">
/** Two proofs side by side: what got better, what worse; the view shows the difference place by place. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import { partWords, useProving } from '../../check/proving'
import { mm, signed } from '../../state/format'
import { useRoom } from '../../state/room'

const { shown } = useRoom()
const p = useProving()
const c = computed(() => p.comparing!)
const SAME = 0.02 // of the tolerance: changes that say nothing
type Row = Schemas['ComparedRow']
const way = (r: Row) =>
  r.change === null
    ? !r.second && r.first?.rms != null
      ? 'first only'
      : !r.first && r.second?.rms != null
        ? 'second only'
        : 'no answer'
    : Math.abs(r.change) < SAME * (c.value.first.settings.tolerance as number)
      ? 'the same'
      : r.change < 0
        ? 'better'
        : 'worse'
const better = computed(() => c.value.told.faces.filter((r) => way(r) === 'better').length)
const worse = computed(() => c.value.told.faces.filter((r) => way(r) === 'worse').length)
const alone = computed(
  () => c.value.told.faces.filter((r) => ['first only', 'second only'].includes(way(r))).length,
)
const percent = (v: number | null | undefined) =>
  v === null || v === undefined ? '–' : `${(100 * v).toFixed(1)} %`
const WHOLE = [
  ['rms', (s: Schemas['Side']) => mm(s.rms)],
  ['mean', (s: Schemas['Side']) => signed(s.mean)],
  ['95 % under', (s: Schemas['Side']) => mm(s.p95)],
  ['within', (s: Schemas['Side']) => percent(s.within)],
] as const
</script>

<template>
  <header class="px-3.5 pb-2 pt-3">
    <h2>Two proofs compared</h2>
    <p class="text-soft">Teal lies nearer to the model in the second, rust farther off.</p>
    <button class="mt-1 underline" @click="p.leave()">Back to the job as it is</button>
  </header>
  <section class="section" aria-label="Whole">
    <table class="w-full table-fixed text-[12px]">
      <thead class="text-soft">
        <tr>
          <th class="w-[76px]" />
          <th class="truncate text-right font-normal" :title="c.first.name">{{ c.first.name }}</th>
          <th class="truncate pl-2 text-right font-normal" :title="c.second.name">{{ c.second.name }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="[words, tell] in WHOLE" :key="words" :data-row="words">
          <td>{{ words }}</td>
          <td class="fig text-right">{{ c.told.whole.first ? tell(c.told.whole.first) : '–' }}</td>
          <td class="fig text-right">{{ c.told.whole.second ? tell(c.told.whole.second) : '–' }}</td>
        </tr>
      </tbody>
    </table>
    <p class="mt-2" data-summary>
      {{ better }} faces got better, {{ worse }} worse{{ alone ? `, ${alone} only one has` : '' }}.
      <template v-if="!c.told.same_scan"
        >Measured on two scans: each place is compared with its nearest.</template
      >
    </p>
  </section>
  <section class="section" aria-label="Faces compared">
    <h3>Face by face, rms</h3>
    <table class="mt-1 w-full table-fixed text-[11.5px]">
      <tbody>
        <tr
          v-for="r in c.told.faces.slice(0, 40)"
          :key="r.face"
          class="hover:bg-ground"
          :data-face="r.face"
          :title="r.face"
        >
          <td class="truncate py-0.5">{{ partWords(r.face) }}</td>
          <td class="fig w-[50px] text-right">{{ mm(r.first?.rms) }}</td>
          <td class="fig w-[50px] text-right">{{ mm(r.second?.rms) }}</td>
          <td
            class="w-[72px] text-right"
            :class="{
              'text-moss': way(r) === 'better',
              'text-brick': way(r) === 'worse',
              'text-soft': way(r) === 'the same',
            }"
          >
            {{ way(r) }}
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section class="section text-soft">
    <p>{{ c.first.name }} was kept {{ new Date(c.first.created).toLocaleString('en') }},</p>
    <p>{{ c.second.name }} {{ new Date(c.second.created).toLocaleString('en') }}.</p>
    <button v-if="!shown.show.tide" class="btn mt-2 w-full" @click="shown.show.tide = true">
      Show the colours
    </button>
  </section>
</template>
