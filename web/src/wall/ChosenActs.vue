<script setup lang="ts">
/** What can be done with the stone chosen on the wall. */
import { computed, ref } from 'vue'
import type { Stone } from '../api/types'
import { useRoom } from '../state/room'
import { related } from './layout'

const props = defineProps<{ stone: Stone }>()
const { job: j, hand, shown } = useRoom()
/** Stones that rest on it, through others. */
const above = computed(() => {
  const ids = related(j.allStones, props.stone.id).above
  return j.allStones.filter((s) => ids.has(s.id))
})
const asking = ref(false)
async function takeOut(along: boolean) {
  if (await j.act('DELETE', `/stones/${props.stone.id}${along ? '?along=true' : ''}`)) shown.chosen = null
  else if (!along && above.value.length) {
    asking.value = true
    j.error = ''
  }
}
/** Its neighbours in its course: it is moved before the one or after the other. */
const course = computed(() => j.allStones.filter((s) => s.course === props.stone.course))
const at = computed(() => course.value.findIndex((s) => s.id === props.stone.id))
function move(later: boolean) {
  const all = j.allStones
  const other = course.value[at.value + (later ? 1 : -1)]!
  const after = later ? other : all[all.indexOf(other) - 1]
  if (after) j.act('POST', `/stones/${props.stone.id}/move`, { after: after.id })
}
</script>

<template>
  <template v-if="asking">
    <span class="max-w-[520px] truncate text-[11.5px]" :title="above.map((s) => s.name).join(', ')"
      >On it rest {{ above.map((s) => s.name).join(', ') }}.</span
    >
    <button class="btn !py-0.5" @click="takeOut(true)">Take out all {{ above.length + 1 }}</button>
    <button class="btn !py-0.5" @click="j.act('POST', `/stones/${stone.id}/switch`)">Switch off</button>
    <button class="btn !py-0.5" @click="asking = false">Leave</button>
  </template>
  <template v-else>
    <span
      v-if="stone.says"
      class="max-w-[340px] truncate text-[11.5px]"
      :class="stone.status === 'failed' ? 'text-brick' : 'text-rust'"
      :title="stone.says"
      >{{ stone.says }}</span
    >
    <button class="btn !py-0.5" @click="hand.takeBack(stone)">Change</button>
    <button class="btn !py-0.5" @click="j.act('POST', `/stones/${stone.id}/switch`)">
      {{ stone.enabled ? 'Switch off' : 'Switch on' }}
    </button>
    <button
      class="btn !px-2 !py-0.5"
      :disabled="at < 1"
      title="Before the stone left of it in its course"
      @click="move(false)"
    >
      Earlier
    </button>
    <button
      class="btn !px-2 !py-0.5"
      :disabled="at >= course.length - 1"
      title="After the stone right of it in its course"
      @click="move(true)"
    >
      Later
    </button>
    <button class="btn !py-0.5" title="Take its like in hand" @click="hand.takeCopy(stone)">Copy</button>
    <button class="btn !py-0.5" @click="takeOut(false)">Take out</button>
  </template>
</template>
