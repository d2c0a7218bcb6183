<script setup lang="ts">
/** The belt and the way back: at the bench's foot, always in sight. */
import { onMounted } from 'vue'
import { useBelt } from '../state/belt'
import { useRoom } from '../state/room'

const room = useRoom()
const j = room.job
const belt = useBelt()
onMounted(belt.look)
</script>

<template>
  <section class="border-t border-rule px-3.5 py-2.5">
    <div class="flex items-center justify-between">
      <h3>Belt</h3>
      <span class="flex gap-1.5">
        <button
          class="btn !px-2 !py-0.5"
          :disabled="!j.job!.undo"
          :title="j.job!.undo ? `Undo: ${j.job!.undo}  Ctrl+Z` : 'Nothing to undo'"
          @click="j.act('POST', '/undo')"
        >
          Undo
        </button>
        <button
          class="btn !px-2 !py-0.5"
          :disabled="!j.job!.redo"
          :title="j.job!.redo ? `Redo: ${j.job!.redo}  Ctrl+Shift+Z` : 'Nothing to redo'"
          @click="j.act('POST', '/redo')"
        >
          Redo
        </button>
      </span>
    </div>
    <div class="mt-1.5 grid grid-cols-4 gap-1">
      <button
        v-for="(t, i) in belt.tools"
        :key="t.id"
        class="btn-belt"
        :disabled="!!t.needs(room)"
        :title="`${t.name}  ${i + 1}`"
        @click="room.hand.start(t)"
      >
        <span class="fig text-soft">{{ i + 1 }}</span>
        <span class="min-w-0 truncate">{{ t.brief }}</span>
      </button>
    </div>
    <p v-if="belt.often" class="mt-1.5 text-soft" role="note">
      Often used: {{ belt.often.tool.name }}.
      <button class="underline" @click="belt.takeOften">
        Put it on the belt{{ belt.often.instead ? ` for ${belt.often.instead.brief}` : '' }}
      </button>
      <button class="ml-1.5 underline" @click="belt.leaveOften">Leave it</button>
    </p>
  </section>
</template>
