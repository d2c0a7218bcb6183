<script setup lang="ts">
/** A section through scan and model: across which axis, where, and which side is left. */
import { useRoom } from '../state/room'
import type { Cut } from './scene'

const { shown } = useRoom()
const AXES: Cut['axis'][] = ['x', 'y', 'z']
function toggle() {
  shown.cut = shown.cut ? null : { axis: 'y', share: 0.5, flip: true }
}
function change(by: Partial<Cut>) {
  shown.cut = { ...shown.cut!, ...by }
}
</script>

<template>
  <button
    class="btn btn-view"
    :class="{ 'btn-on': shown.cut }"
    :aria-pressed="!!shown.cut"
    title="A section through scan and model  X"
    @click="toggle"
  >
    section
  </button>
  <div
    v-if="shown.cut"
    class="btn-view flex items-center gap-1 rounded-sm border border-rule px-1"
    role="group"
    aria-label="Section"
  >
    <button
      v-for="a in AXES"
      :key="a"
      class="fig rounded-sm px-1.5 py-0.5"
      :class="shown.cut.axis === a ? 'bg-ink text-sheet' : 'hover:bg-linen'"
      :aria-pressed="shown.cut.axis === a"
      :aria-label="`across ${a}`"
      @click="change({ axis: a, flip: a === 'y' })"
    >
      {{ a }}
    </button>
    <input
      type="range"
      min="0"
      max="1"
      step="0.005"
      class="w-[110px] accent-inkblue"
      aria-label="Where the section lies"
      :value="shown.cut.share"
      @input="change({ share: Number(($event.target as HTMLInputElement).value) })"
    />
    <button class="rounded-sm px-1.5 py-0.5 hover:bg-linen" @click="change({ flip: !shown.cut.flip })">
      other side
    </button>
  </div>
</template>
