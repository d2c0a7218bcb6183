<script setup lang="ts">
/** Frames that the scan suggests by itself: looked at in the view, laid with the datums they stand on. */
import { computed, onUnmounted, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Working from '../../bench/Working.vue'
import { useRoom } from '../../state/room'
import { useStudy } from '../../state/studies'
import { forget, suggesting } from './suggesting'

const { job: j } = useRoom()
const { running, error, run, stop } = useStudy<Schemas['SuggestedFrames']>('/frames')
const zones = computed(() => j.given('zones').at(-1))
async function ask() {
  forget()
  const got = await run({ scan: j.scan!.id, zones: zones.value?.id ?? null })
  if (got) Object.assign(suggesting, { found: got.frames, looked: 0 })
}
async function lay() {
  const f = suggesting.found![suggesting.looked]
  if (await j.act('POST', '/draft/laid', { label: `Lay ${f.steps.at(-1)!.name}`, steps: f.steps })) forget()
}
watch(
  () => [j.job?.id, j.scan?.id],
  () => (forget(), stop()),
)
onUnmounted(forget)
</script>

<template>
  <section v-if="j.scan" class="section" aria-label="Suggested frames">
    <h3>Suggested frames</h3>
    <template v-if="!suggesting.found">
      <p v-if="!j.frame" class="mt-1.5 text-soft">
        From the scan's own surfaces: what it would stand on, what it mirrors in, its main bore.
        {{ zones ? '' : 'Its surfaces are read first, which takes a while.' }}
      </p>
      <Working v-if="running" :at="running" @stop="stop" />
      <button v-else class="btn mt-2 w-full" @click="ask">Suggest frames</button>
    </template>
    <template v-else>
      <p v-if="!suggesting.found.length" class="mt-1.5 text-soft">
        No flat face, bore or symmetry of it is large enough. Read datums and set the frame from them.
      </p>
      <ol class="mt-1.5 space-y-1.5" aria-label="Frames">
        <li v-for="(f, k) in suggesting.found" :key="k">
          <button
            class="offer"
            :class="{ 'offer-first': suggesting.looked === k }"
            :aria-pressed="suggesting.looked === k"
            @click="suggesting.looked = k"
          >
            <b class="block font-semibold">{{ f.reason }}</b>
            <span class="block text-soft">{{
              f.open.length ? `Open: ${f.open.join(', ')}.` : 'All six freedoms are held.'
            }}</span>
            <template v-if="suggesting.looked === k">
              <span v-for="m in f.misses" :key="m.name" class="flex justify-between text-soft">
                <span>{{ m.name }} off by</span>
                <span class="fig">{{ m.degrees.toFixed(3) }}° · {{ m.edge_mm.toFixed(2) }} mm</span>
              </span>
            </template>
          </button>
        </li>
      </ol>
      <div class="mt-2 flex gap-1.5">
        <button
          v-if="suggesting.found.length"
          class="btn flex-1 !bg-ink !text-sheet"
          :disabled="j.busy"
          @click="lay"
        >
          Lay frame and its datums
        </button>
        <button class="btn" @click="forget">Close</button>
      </div>
    </template>
    <p v-if="error" class="note mt-1.5" role="alert">{{ error }}</p>
  </section>
</template>
