<script setup lang="ts">
/**
 * The marking tool's strip over the view: by what, how it joins, what lies hidden; and what is marked so
 * far.
 */
import { computed } from 'vue'
import { useHand } from '../state/hand'
import { CLOUD_RULES, MARK_RULES, useMarks } from '../state/marks'

const props = defineProps<{ cloud: boolean }>()
const hand = useHand()
const m = useMarks()
const marks = computed(() => hand.marksInHand() ?? [])
const rules = computed(() => MARK_RULES.filter((r) => !props.cloud || CLOUD_RULES.includes(r)))
function takeBack() {
  marks.value.pop()
  hand.select()
  if (hand.spot?.marks !== 'later') hand.tryIt()
}
function clear() {
  marks.value.splice(0)
  hand.select()
  if (hand.spot?.marks === 'later') return
  if (hand.spot?.onto) return hand.tryIt(0)
  hand.stopTrying()
  hand.preview = null
}
function unit() {
  m.onScreen = !m.onScreen
  m.radius = m.onScreen ? 24 : 2
}
const HOWS = [
  ['add', '+', 'Add to what is marked'],
  ['take away', '−', 'Take away from what is marked'],
  ['intersect', '∩', 'Keep what both have'],
] as const
</script>

<template>
  <div class="view-strip top-12" role="toolbar" aria-label="Marking">
    <select v-model="m.by" class="field !py-0.5" aria-label="Mark by">
      <option v-for="r in rules" :key="r" :value="r">{{ r }}</option>
    </select>
    <span class="flex gap-1" role="group" aria-label="How it joins">
      <button
        v-for="[h, sign, says] in HOWS"
        :key="h"
        class="btn !px-2 !py-0.5"
        :class="{ 'btn-on': m.how === h }"
        :aria-pressed="m.how === h"
        :title="says"
        :aria-label="h"
        @click="m.how = h"
      >
        {{ sign }}
      </button>
    </span>
    <label v-if="m.by === 'brush'" class="flex items-center gap-1.5"
      >radius
      <input
        v-model.number="m.radius"
        type="number"
        min="0.1"
        step="0.5"
        class="field fig w-16 !py-0.5"
        aria-label="Brush radius"
      />
      <button
        class="btn !px-1.5 !py-0.5"
        :title="
          m.onScreen ? 'The radius stays the same on the screen' : 'The radius stays the same on the part'
        "
        @click="unit"
      >
        {{ m.onScreen ? 'px' : 'mm' }}
      </button></label
    >
    <label v-if="m.by in m.angle" class="flex items-center gap-1.5"
      >angle
      <input
        v-model.number="m.angle[m.by]"
        type="range"
        min="1"
        max="60"
        class="w-24 accent-saffron"
        aria-label="Angle of the rule"
      /><span class="fig w-8">{{ m.angle[m.by] }}°</span></label
    >
    <button
      v-if="m.by === 'brush' || m.by === 'outline'"
      class="btn !px-2 !py-0.5"
      :class="{ 'btn-on': m.through }"
      :aria-pressed="m.through"
      title="Also what lies hidden behind"
      @click="m.through = !m.through"
    >
      {{ m.through ? 'through' : 'front only' }}
    </button>
    <span class="ml-auto flex flex-wrap gap-1">
      <button
        class="btn !px-2 !py-0.5"
        :disabled="!marks.length"
        @click="hand.mark({ by: 'grow', rings: 1 })"
      >
        Grow
      </button>
      <button
        class="btn !px-2 !py-0.5"
        :disabled="!marks.length"
        @click="hand.mark({ by: 'shrink', rings: 1 })"
      >
        Shrink
      </button>
      <button class="btn !px-2 !py-0.5" @click="hand.mark({ by: 'invert' })">Invert</button>
      <button
        class="btn !px-2 !py-0.5"
        :disabled="!marks.length"
        title="Take the last mark back"
        @click="takeBack"
      >
        Back
      </button>
      <button class="btn !px-2 !py-0.5" :disabled="!marks.length" @click="clear">Clear</button>
    </span>
  </div>
</template>
