<script setup lang="ts">
/** What is picked on the paper: what could be held of it, at what cost, and what the scan says. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import { said } from '../../paper/marks'
import { useSketch } from '../../paper/sketch'
import { mm, pm, signed } from '../../state/format'

const s = useSketch()
const own = computed(() =>
  (s.summary?.relations ?? []).flatMap((r, k) =>
    r.of.some((n) => s.of.some((m) => m.split('.')[0] === n.split('.')[0])) ? [{ ...r, k }] : [],
  ),
)
const verdict = (x: { verdict: string }) =>
  x.verdict === 'contradicts'
    ? 'contradicts'
    : x.verdict === 'holds already'
      ? 'holds'
      : x.verdict
        ? `scan ${x.verdict}`
        : ''
const index = (r: Schemas['HeldTold']) =>
  s.mine!.relations.findIndex((x) => x.kind === r.kind && x.of.join() === r.of.join())
</script>

<template>
  <section v-if="s.of.length && !s.tool" class="section" aria-label="Picked on the paper">
    <h3>{{ s.of.join(', ') }}</h3>
    <p v-if="s.summary?.states?.[s.of[0]]" class="text-soft">
      {{ s.summary.states[s.of[0]] }}
      <template v-if="s.summary.entity_rms[s.of[0]] !== undefined">
        · rms <span class="fig">{{ mm(s.summary.entity_rms[s.of[0]]) }}</span> · worst
        <span class="fig">{{ mm(s.summary.entity_worst[s.of[0]]) }}</span>
      </template>
    </p>
    <div v-for="r in own.slice(0, 6)" :key="r.kind + r.of.join()" class="flex items-baseline gap-2 py-0.5">
      <span class="flex-1"
        >{{ said(r.kind) }} <span class="text-soft">{{ r.of.join(' ') }}</span></span
      >
      <button
        class="text-soft underline"
        :aria-label="`Let go: ${said(r.kind)} ${r.of.join(' ')}`"
        @click="s.letGo(index(r))"
      >
        let go
      </button>
    </div>
    <div class="mt-1 flex flex-wrap gap-1">
      <button
        v-for="x in (s.offers?.relations ?? []).slice(0, 8)"
        :key="x.kind + x.of.join()"
        class="btn !px-2 !py-1"
        :class="{ '!border-brick text-brick': x.verdict === 'contradicts' || x.verdict === 'says no' }"
        :aria-label="`Hold ${said(x.kind)}`"
        @click="s.hold(x)"
      >
        {{ said(x.kind) }}
        <span class="fig text-soft">{{ signed(x.cost) }}</span>
        <span class="text-[11px] text-soft">{{ verdict(x) }}</span>
      </button>
      <button
        v-for="z in (s.offers?.sizes ?? []).slice(0, 5)"
        :key="z.kind + z.of.join()"
        class="btn !px-2 !py-1"
        :aria-label="`Measure ${said(z.kind)}`"
        @click="s.measure(z)"
      >
        {{ said(z.kind) }}
        <span class="fig"
          >{{ mm(z.value) }}{{ z.unit === 'deg' ? '°' : '' }}
          {{ z.uncertainty ? pm(2 * z.uncertainty) : '' }}</span
        >
      </button>
    </div>
  </section>
</template>
