<script setup lang="ts">
/** The line: the stages in order and how each stands. */
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed } from 'vue'
import { useJob } from '../state/job'
import type { StageState } from '../kinds/kind'
import { allStages, stageState } from '../kinds/registry'
import { useShown } from '../state/shown'
import Mark from './Mark.vue'
import ThemeButton from './ThemeButton.vue'

const j = useJob()
const shown = useShown()
const emit = defineEmits<{ find: []; keys: [] }>()
const stages = computed(() =>
  allStages().map((s) => ({ key: s.key, later: !!s.empty, state: stageState(s, j.allStones) })),
)
const BAR: Record<StageState, string> = {
  untouched: 'bg-rule',
  begun: 'bg-sand',
  sound: 'bg-moss',
  wanting: 'bg-rust',
}
const SAYS: Record<StageState, string> = {
  untouched: 'nothing laid',
  begun: 'begun',
  sound: 'sound',
  wanting: 'wants attention',
}
</script>

<template>
  <header class="flex h-12 shrink-0 items-stretch border-b border-rule bg-sheet">
    <div class="flex w-[216px] items-center gap-2.5 overflow-hidden px-3">
      <RouterLink to="/" aria-label="All jobs" title="All jobs"><Mark /></RouterLink>
      <h1 class="truncate text-[13px] font-semibold" :title="j.job!.name">{{ j.job!.name }}</h1>
    </div>
    <nav class="flex flex-1 items-stretch px-3.5" aria-label="Stages">
      <button
        v-for="s in stages"
        :key="s.key"
        class="relative flex-1 border-l border-transparent text-[13px] hover:bg-ground"
        :class="[shown.stage === s.key ? 'font-semibold' : '', s.later ? 'text-soft' : '']"
        :aria-current="shown.stage === s.key ? 'step' : undefined"
        :title="s.later ? `${s.key}: tools to come` : `${s.key}: ${SAYS[s.state]}`"
        @click="shown.stage = s.key"
      >
        {{ s.key }}
        <span class="absolute bottom-0 left-0 h-[9px] border-l border-soft" />
        <span
          class="absolute inset-x-0 bottom-0"
          :class="[shown.stage === s.key ? 'h-[5px] bg-ink' : 'h-[3px] ' + BAR[s.state]]"
        />
      </button>
    </nav>
    <div class="flex items-center gap-3 px-3">
      <button class="field flex w-[122px] items-center justify-between text-soft" @click="emit('find')">
        Find a tool <kbd class="fig rounded-sm border border-rule px-1">/</kbd>
      </button>
      <button
        class="text-soft hover:text-ink"
        :title="shown.inches ? 'Figures in inches; click for mm' : 'Figures in mm; click for inches'"
        @click="shown.inches = !shown.inches"
      >
        {{ shown.inches ? 'in' : 'mm' }}
      </button>
      <ThemeButton />
      <Popover class="relative">
        <PopoverButton class="text-soft hover:text-ink"
          >{{ j.running.length || 'no' }} {{ j.running.length === 1 ? 'task' : 'tasks' }}</PopoverButton
        >
        <PopoverPanel
          class="absolute right-0 top-8 z-30 w-80 rounded-sm border border-rule bg-sheet p-3 shadow-sm"
        >
          <p v-if="!j.job!.tasks.length" class="text-soft">Nothing has taken long yet.</p>
          <ul class="space-y-2.5">
            <li v-for="t in j.job!.tasks" :key="t.id">
              <div class="flex justify-between gap-2">
                <span>{{ t.label }}</span><span class="text-soft">{{ t.state }}</span>
              </div>
              <div v-if="t.state === 'running' || t.state === 'waiting'" class="mt-1 flex items-center gap-2">
                <div class="h-1.5 flex-1 bg-rule">
                  <div class="h-full bg-saffron" :style="{ width: `${t.progress * 100}%` }" />
                </div>
                <button class="btn !px-2 !py-0.5" @click="j.act('POST', `/tasks/${t.id}/cancel`)">
                  Cancel
                </button>
              </div>
              <p v-if="t.message" class="text-soft">{{ t.message }}</p>
              <button
                v-if="t.state === 'failed' || t.state === 'cancelled'"
                class="underline"
                @click="j.act('POST', '/tasks/retry')"
              >
                Try again
              </button>
            </li>
          </ul>
        </PopoverPanel>
      </Popover>
      <button class="btn !px-2 !py-1" aria-label="All keys" title="All keys  ?" @click="emit('keys')">
        ?
      </button>
    </div>
  </header>
</template>
