<script setup lang="ts">
/**
 * What is wrong with the mesh: a count for each kind, each defect shown in the view by stepping, ticked ones
 * repaired together.
 */
import { ChevronLeft, ChevronRight } from 'lucide-vue-next'
import { computed } from 'vue'
import Working from '../../bench/Working.vue'
import { whole } from '../../state/format'
import { useRoom } from '../../state/room'
import { useSurvey } from './useSurvey'

const props = defineProps<{ repairing?: boolean }>()
const { job: j, hand } = useRoom()
const s = useSurvey()
const chosen = computed<string[]>({
  get: () => (props.repairing ? (hand.record!.fix as string[]) : [...s.ticked]),
  set: (v) => {
    if (!props.repairing) return void (s.ticked = new Set(v))
    hand.record!.fix = v
    hand.preview = null
  },
})
function toggle(kind: string) {
  const had = chosen.value.includes(kind)
  chosen.value = had ? chosen.value.filter((k) => k !== kind) : [...chosen.value, kind]
}
const total = computed(() =>
  s.wrong.filter((k) => chosen.value.includes(k.kind)).reduce((n, k) => n + k.count, 0),
)
function repair() {
  const fix = s.wrong.map((k) => k.kind).filter((k) => chosen.value.includes(k))
  hand.takeUp('repair', { name: j.freeName('Repair'), scan: j.scan!.id, fix })
}
const counted = (kind: string, n: number) => `${s.at?.kind === kind ? `${s.at.i + 1} of ` : ''}${whole(n)}`
</script>

<template>
  <section class="section" aria-label="Survey">
    <div class="flex items-center justify-between">
      <h3>Survey</h3>
      <button v-if="!s.running" class="btn !px-2 !py-0.5" @click="s.look()">
        {{ s.fresh ? 'Survey again' : 'Survey the mesh' }}
      </button>
    </div>
    <Working v-if="s.running" :at="s.running" @stop="s.stop()" />
    <p v-else-if="s.error" class="note-bad mt-2" role="alert">{{ s.error }}</p>
    <p v-else-if="!s.fresh" class="mt-1.5 text-soft">
      Do it first to see what the scan needs, and again last.
    </p>
    <template v-else>
      <p class="mt-1.5" :class="s.wrong.length || s.fresh.rims ? '' : 'text-moss'" data-figure="survey">
        {{ s.fresh.says }}
      </p>
      <ul class="mt-1.5">
        <li
          v-for="k in s.wrong"
          :key="k.kind"
          class="flex h-7 items-center gap-1.5"
          :class="{ 'bg-held': s.at?.kind === k.kind }"
        >
          <label class="flex min-w-0 flex-1 items-center gap-1.5"
            ><input
              type="checkbox"
              :checked="chosen.includes(k.kind)"
              class="accent-ink"
              @change="toggle(k.kind)"
            /><span class="truncate" :title="k.words">{{ k.words }}</span></label
          >
          <span class="fig" :data-count="k.kind">{{ counted(k.kind, k.count) }}</span>
          <button
            class="btn !px-0.5 !py-0.5"
            :aria-label="`Look at the one before of ${k.words}`"
            title="The one before"
            @click="s.step(k.kind, -1)"
          >
            <ChevronLeft :size="13" />
          </button>
          <button
            class="btn !px-0.5 !py-0.5"
            :aria-label="`Look at the next of ${k.words}`"
            title="The next"
            @click="s.step(k.kind, 1)"
          >
            <ChevronRight :size="13" />
          </button>
        </li>
      </ul>
      <button
        v-if="s.wrong.length && !repairing"
        class="btn-main mt-2 w-full"
        :disabled="!total"
        @click="repair"
      >
        Repair {{ whole(total) }} ticked
      </button>
    </template>
  </section>
</template>
