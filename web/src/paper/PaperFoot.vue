<script setup lang="ts">
/** The line at the paper's foot: what the tool asks for; else where the paper lies and how it stands. */
import { computed } from 'vue'
import { mm } from '../state/format'
import { useHand } from '../state/hand'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import { useSketch } from './sketch'

const s = useSketch()
const hand = useHand()
const j = useJob()
const shown = useShown()
const placed = computed(() => {
  const r = s.record!
  const unit = shown.inches ? 'in' : 'mm'
  const at = `${mm(r.height, 2, shown.inches)} ${unit}`
  const what = r.on_face ?? (r.on ? (j.byId.get(r.on)?.name ?? 'a datum') : r.axis)
  return r.along ? `holds ${what}` : `square to ${what} at ${at}`
})
const busy = computed(() => (s.cutting ? 'cutting' : s.drawing || hand.trying ? 'solving' : ''))
const counts = computed(() => {
  const by: Record<string, number> = {}
  for (const x of Object.values(s.summary?.states ?? {})) by[x] = (by[x] ?? 0) + 1
  return Object.entries(by).map(([k, n]) => `${n} ${k}`)
})
</script>

<template>
  <div v-if="s.record" class="paper-foot">
    <template v-if="s.tool">
      <b class="font-semibold">{{ s.tool.name }}</b>
      <span role="status" data-prompt>{{ s.prompt }}</span>
      <form class="ml-auto flex items-center gap-2" @submit.prevent="s.send()">
        <label v-for="a in s.tool.asks ?? []" :key="a.key" class="flex items-center gap-1 text-soft">
          {{ a.label }}
          <input
            v-model.number="s.asked![a.key]"
            type="number"
            :step="a.whole ? 1 : 'any'"
            class="field fig w-[62px] !py-0.5"
            :aria-label="`${s.tool.name}: ${a.label}`"
            @keydown.enter.stop.prevent="s.tool.takes === 'picked' && s.send()"
          />
          {{ a.unit }}
        </label>
        <button
          v-if="s.tool.count === 0"
          class="btn !px-2 !py-0.5"
          :disabled="s.tool.takes === 'places' && s.given.length < 2"
        >
          {{ s.tool.takes === 'places' ? 'End it' : 'Do it' }}
        </button>
      </form>
      <span v-if="busy" class="text-soft" data-busy>{{ busy }}</span>
    </template>
    <template v-else>
      <span v-if="!s.walls" class="min-w-0 truncate text-soft" :title="placed">{{ placed }}</span>
      <span v-if="s.walls" class="shrink-0 text-soft" data-walls>
        walls off it: rms <span class="fig">{{ mm(s.walls.told.rms) }}</span> · 95 % within
        <span class="fig">{{ mm(s.walls.told.within) }}</span>
      </span>
      <span v-else-if="s.summary" class="shrink-0 text-soft">
        · rms <span class="fig">{{ mm(s.summary.rms) }}</span> ·
        {{ counts.join(', ') || 'nothing drawn' }}
      </span>
      <template v-if="s.summary">
        <button
          class="btn ml-auto shrink-0 !px-1.5 !py-0"
          :class="{ 'btn-on': s.hairs }"
          :aria-pressed="s.hairs"
          title="How far the trace lies off, many times over (h)"
          @click="s.hairs = !s.hairs"
        >
          hairs
        </button>
        <button
          class="btn shrink-0 !px-1.5 !py-0"
          :class="{ 'btn-on': s.onScan }"
          :aria-pressed="s.onScan"
          title="Colour the scan's walls by how far they lie off what this drawing would sweep"
          @click="s.onScan = !s.onScan"
        >
          on the scan
        </button>
      </template>
      <span v-if="busy" class="ml-auto text-soft" role="status" data-busy>{{ busy }}</span>
      <span
        v-else-if="s.way !== null && s.unsaid.length"
        class="ml-auto min-w-0 flex-1 truncate text-right"
        role="status"
        :title="s.unsaid.join(' ')"
        >{{ s.unsaid.at(-1) }}</span
      >
    </template>
  </div>
</template>
