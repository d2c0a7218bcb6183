<script setup lang="ts">
/** The pairs of the scan being brought: what each misses by, and a way to drop it. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import { useHand } from '../../state/hand'
import { useNames } from './useNames'
import { usePairing } from './usePairing'

const hand = useHand()
const p = usePairing()
const { nameOf, numberOf } = useNames()
const misfits = computed<number[]>(() =>
  ((hand.told as unknown as Schemas['PlacementTold'] | null)?.pairs ?? [])
    .filter((x) => x.moving === p.moving)
    .map((x) => x.misfit),
)
const rest = computed(() =>
  misfits.value.length
    ? Math.sqrt(misfits.value.reduce((t, d) => t + d * d, 0) / misfits.value.length)
    : null,
)
function bring(scan: string) {
  p.chosen = scan
  hand.slot = 'pairs'
}
function itself() {
  hand.record!.by = 'itself'
  hand.slot = null
  hand.tryIt(0)
}
</script>

<template>
  <section class="section" aria-label="Pairs">
    <h3>Pairs</h3>
    <label class="mt-1.5 flex items-center gap-2"
      ><span class="w-[52px]">bring</span>
      <select
        class="field flex-1"
        :value="p.moving ?? ''"
        aria-label="Scan to bring"
        @change="bring(($event.target as HTMLSelectElement).value)"
      >
        <option v-for="id in p.free" :key="id" :value="id">
          {{ numberOf(id) }} {{ nameOf(id) }}{{ p.placed.includes(id) ? ', placed' : '' }}
        </option>
      </select></label
    >
    <p class="mt-1 text-soft">
      onto {{ p.fixedShown.map((id) => numberOf(id)).join(', ') }}; click a place on one side, then the same
      on the other.
    </p>
    <ol v-if="p.mine.length" class="mt-1.5 space-y-0.5" aria-label="Pairs picked">
      <li v-for="(x, k) in p.mine" :key="x.i" class="flex items-center gap-2">
        <span class="fig grid h-5 w-5 place-items-center rounded-full bg-saffron text-[11px]">{{
          k + 1
        }}</span>
        <span class="flex-1 text-soft">{{
          misfits[k] === undefined ? (p.mine.length < 3 ? 'waits for three' : 'working') : 'misses by'
        }}</span><span v-if="misfits[k] !== undefined" class="fig" data-figure="misfit"
          >{{ misfits[k].toFixed(2) }} mm</span
        >
        <button class="underline" :aria-label="`Drop pair ${k + 1}`" @click="p.drop(x.i)">drop</button>
      </li>
    </ol>
    <p v-if="rest !== null" class="mt-1 text-soft">
      Together <span class="fig">{{ rest.toFixed(2) }}</span> mm (rms) by the clicks; drawn onto the scans
      from there.
    </p>
    <button v-if="rest !== null && p.next" class="btn mt-2 w-full" @click="p.chosen = p.next">
      Next: {{ numberOf(p.next) }} {{ nameOf(p.next) }}
    </button>
    <div class="mt-2 flex gap-1.5">
      <button
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': hand.slot === 'pairs' }"
        :aria-pressed="hand.slot === 'pairs'"
        @click="hand.slot = hand.slot === 'pairs' ? null : 'pairs'"
      >
        {{ hand.slot === 'pairs' ? 'See together' : 'Side by side' }}
      </button>
      <button
        class="btn flex-1 !px-1"
        :class="{ 'btn-on': p.linked }"
        :aria-pressed="p.linked"
        title="Turning one side turns the other"
        @click="p.linked = !p.linked"
      >
        Turn both
      </button>
      <button class="btn flex-1 !px-1" title="The scans without pairs find their own place" @click="itself()">
        Rest itself
      </button>
    </div>
  </section>
</template>
