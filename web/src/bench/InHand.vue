<script setup lang="ts">
/** A step in hand: its form, how far it is, what is wrong with it, and laying it or dropping it. */
import { computed } from 'vue'
import { short } from '../state/format'
import { useHand } from '../state/hand'
import { scanLine, useJob } from '../state/job'
import { useShown } from '../state/shown'
import Form from './Form.vue'
import Working from './Working.vue'

const j = useJob()
const hand = useHand()
const shown = useShown()
/** Look closer at a place of the model. */
function look(place: number[]) {
  const [low, high] = j.scan ? scanLine(j.scan).bounds : [[0], [100]]
  shown.lookAt(place, 0.3 * Math.max(...high.map((h, k) => h - (low?.[k] ?? 0))), true)
}
const verb = computed(() => {
  const k = hand.kind!
  const own = k.verb(hand.told, hand.record!)
  const title = typeof k.title === 'string' ? k.title : k.title(hand.record!)
  return `${own || `Lay ${title.toLowerCase()}`}${hand.held!.editing ? ' again' : ''}`
})
</script>

<template>
  <div class="min-h-0 flex-1 overflow-y-auto">
    <component :is="hand.kind!.form ?? Form" :key="`${hand.kind!.kind} ${hand.record!.id ?? ''}`" />
    <section v-for="l in hand.lost" :key="l.path.join()" class="section" aria-label="Lost">
      <p class="note">
        {{ l.what.charAt(0).toUpperCase() + l.what.slice(1) }} is not there any more.
        <button v-if="l.place" class="underline" @click="look(l.place)">Where it was</button>
      </p>
      <ul v-if="l.candidates.length" class="mt-1.5" aria-label="What could stand there">
        <li v-for="c in l.candidates.slice(0, 4)" :key="c.label" class="mb-1 flex gap-1">
          <button class="btn min-w-0 flex-1 !px-2" @click="hand.replace(l, c.value)">
            <span class="min-w-0 flex-1 truncate text-left" :title="c.label">{{ c.label }}</span>
            <span v-if="c.away != null" class="fig text-soft">{{ short(c.away) }} mm away</span>
          </button>
          <button v-if="c.place" class="btn !px-2" :aria-label="`Look at ${c.label}`" @click="look(c.place)">
            look
          </button>
        </li>
      </ul>
      <p v-else-if="l.gives.length" class="mt-1.5 text-soft">
        Lay a {{ l.gives[0] ?? 'step' }} before it, or switch it on.
      </p>
    </section>
    <div v-if="hand.lost.some((l) => l.path.length === 2)" class="section">
      <button class="btn w-full" @click="hand.leaveOut()">Leave out what is gone</button>
    </div>
    <div v-if="hand.studying" class="px-3.5 pb-3">
      <Working :at="hand.studying" @stop="hand.stopTrying()" />
    </div>
    <div v-if="hand.error" class="section">
      <p class="note-bad" role="alert">{{ hand.error }}</p>
    </div>
    <div v-else-if="hand.preview?.says" class="section">
      <p class="note">{{ hand.preview.says }}</p>
    </div>
  </div>
  <div class="border-t border-rule p-3.5">
    <div class="flex gap-2">
      <button class="btn-main flex-1" :disabled="!!hand.missing || j.busy" title="Enter" @click="hand.lay()">
        {{ j.busy ? 'Laying' : verb }}
      </button>
      <button class="btn" title="Esc" @click="hand.drop()">Drop</button>
    </div>
    <p v-if="hand.missing && !hand.error && !hand.spot" class="mt-1.5 text-soft">{{ hand.missing }}</p>
  </div>
</template>
