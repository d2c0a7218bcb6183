<script setup lang="ts">
/** A step in hand: its form, how far it is, what is wrong with it, and laying it or dropping it. */
import { computed } from 'vue'
import { useHand } from '../state/hand'
import { useJob } from '../state/job'
import Form from './Form.vue'
import Working from './Working.vue'

const j = useJob()
const hand = useHand()
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
      <p class="note">What it rested on ({{ l.path.join(' ') }}) is not there any more.</p>
      <div v-if="l.candidates.length" class="mt-1.5 flex flex-wrap gap-1.5">
        <button v-for="c in l.candidates.slice(0, 4)" :key="c" class="btn !px-2" @click="hand.replace(l, c)">
          {{ j.byId.get(c)?.name }}
        </button>
      </div>
      <p v-else class="mt-1.5 text-soft">Lay a {{ l.gives[0] ?? 'step' }} before it, or switch it on.</p>
    </section>
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
