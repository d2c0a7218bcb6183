<script setup lang="ts">
/**
 * A guided job: the step that is next, how to do it, and what the program sees of it. At the yard's foot,
 * where it never lies over the part.
 */
import { Check, ChevronDown, ChevronUp } from 'lucide-vue-next'
import { computed, ref, shallowRef, watch } from 'vue'
import { call } from '../api/client'
import type { Schemas } from '../api/types'
import { useRoom } from '../state/room'
import type { StageKey } from '../kinds/stages'

const { job: j, shown } = useRoom()
const lessons = shallowRef<Schemas['LessonView'][]>([])
const folded = ref(true)
const after = ref('')
/** How far the job is, as far as a lesson could see: what was laid, and how it fares. */
const state = computed(() =>
  j.job?.demo ? `${j.job.id} ${j.allStones.map((s) => s.id + s.status + s.key).join()}` : '',
)
watch(
  state,
  async () => {
    const id = j.job?.id
    if (!state.value || !id) return void (lessons.value = [])
    try {
      const got = await call<Schemas['GuideView']>('GET', `/jobs/${id}/guide`)
      if (id !== j.job?.id) return
      if (!lessons.value.length) folded.value = !got.open
      lessons.value = got.lessons
      after.value = got.after
    } catch {
      // the job itself says what is wrong
    }
  },
  { immediate: true },
)
const done = computed(() => lessons.value.filter((l) => l.done).length)
const next = computed(() => lessons.value.find((l) => !l.done) ?? null)
const at = computed(() => (next.value ? lessons.value.indexOf(next.value) + 1 : lessons.value.length))
function go() {
  shown.stage = next.value!.stage as StageKey
}
</script>

<template>
  <section
    v-if="lessons.length"
    class="max-h-[60%] shrink-0 overflow-y-auto border-t border-rule px-3 py-2"
    aria-label="Guide"
  >
    <button
      class="flex w-full items-center gap-2 text-left"
      :aria-expanded="!folded"
      @click="folded = !folded"
    >
      <span class="flex flex-1 gap-[3px]" aria-hidden="true">
        <i
          v-for="(l, k) in lessons"
          :key="l.title"
          class="h-1.5 flex-1"
          :class="l.done ? 'bg-moss' : k + 1 === at ? 'bg-saffron' : 'bg-rule'"
        />
      </span>
      <span class="fig text-soft" data-figure="lessons">{{ done }} of {{ lessons.length }}</span>
      <component :is="folded ? ChevronUp : ChevronDown" :size="14" />
    </button>
    <template v-if="!folded">
      <template v-if="next">
        <h3 class="mt-2">{{ at }}. {{ next.title }}</h3>
        <p class="mt-1">{{ next.says }}</p>
        <p v-if="next.saw" class="note mt-1.5" role="status">{{ next.saw }}</p>
        <button v-if="shown.stage !== next.stage" class="btn mt-2" @click="go">Go to {{ next.stage }}</button>
      </template>
      <p v-else class="mt-2 flex gap-2">
        <Check :size="16" class="shrink-0 text-moss" />
        <span>{{ after }}</span>
      </p>
    </template>
  </section>
</template>
