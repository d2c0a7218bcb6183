<script setup lang="ts">
/** Form apart from position, and which number of the model, changed alone, would take most of what is off. */
import { computed, shallowRef, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Working from '../../bench/Working.vue'
import { useProving, type DeviationTold } from '../../check/proving'
import { mm, short } from '../../state/format'
import { useRoom } from '../../state/room'
import { useStudy } from '../../state/studies'

const props = defineProps<{ told: DeviationTold }>()
const { job: j, shown } = useRoom()
const p = useProving()
const LEAST = 0.05 // share that is worth a word
const place = computed(() => props.told.position)
const norm = (v: number[]) => Math.hypot(...v)
const says = computed(() => {
  const at = place.value
  if (!at) return ''
  if (at.share < LEAST) return 'Moving the scan as it is would mend nothing: what is off is form.'
  const move = `${mm(norm(at.shift))} mm and ${norm(at.turn).toFixed(3)}°`
  return `${Math.round(100 * at.share)} % of what is off is position: moved by ${move}, rms would be ${mm(at.rms_after)}.`
})
const { running, error, run, stop } = useStudy<Schemas['MendsView']>('/mends')
const found = shallowRef<Schemas['MendsView'] | null>(null)
watch([() => p.check?.key, () => shown.proof?.id], () => (found.value = null))
const offered = computed(() => !shown.proof && !!j.body && !!j.frame)
async function ask() {
  found.value = await run({})
}
async function choose(m: Schemas['MendView']) {
  if (await j.choose(m.name, Number(m.to.toFixed(4)))) found.value = null
}
</script>

<template>
  <section v-if="place || offered" class="section" aria-label="Form and position">
    <h3>Form and position</h3>
    <p v-if="place" class="mt-1" data-position>{{ says }}</p>
    <template v-if="offered">
      <Working v-if="running" :at="running" @stop="stop" />
      <button v-else-if="!found" class="btn mt-2 w-full" @click="ask">Which number would mend it?</button>
      <template v-else>
        <p v-if="!found.mends.length" class="mt-2 text-soft">
          No number, changed alone, mends a hundredth of it.
        </p>
        <ul v-else class="mt-2 space-y-1" aria-label="What would mend it">
          <li v-for="m in found.mends" :key="m.name" class="flex items-baseline gap-2">
            <span class="min-w-0 flex-1 truncate" :title="m.name">{{ m.name }}</span>
            <span class="fig">{{ m.by > 0 ? '+' : '' }}{{ short(m.by) }}</span>
            <span class="fig text-soft">{{ Math.round(100 * m.share) }} %</span>
            <button class="underline" :disabled="j.busy" @click="choose(m)">take {{ short(m.to) }}</button>
          </li>
        </ul>
      </template>
      <p v-if="error" class="note mt-1.5" role="alert">{{ error }}</p>
    </template>
  </section>
</template>
