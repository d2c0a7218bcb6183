<script setup lang="ts">
/** The tools at the paper's upper edge: five groups, and the tools of the one that is open. */
import { computed } from 'vue'
import { signed } from '../state/format'
import { said } from './marks'
import { useSketch, type Group } from './sketch'
import { toolsOf } from './tools'

const s = useSketch()
const GROUPS: { id: Group; says: string }[] = [
  { id: 'fit', says: 'To the trace' },
  { id: 'draw', says: 'By hand' },
  { id: 'relate', says: 'Hold what is picked' },
  { id: 'size', says: 'Measure or hold what is picked' },
  { id: 'change', says: 'What is drawn' },
]
const tools = computed(() => (s.group === 'relate' || s.group === 'size' ? [] : toolsOf(s.group)))
function open(g: Group) {
  s.group = g
  if (s.tool && s.tool.group !== g) s.take(null)
}
</script>

<template>
  <div
    class="absolute inset-x-0 top-0 z-[4] border-b border-rule bg-sheet/95 px-2 pb-1 pt-1"
    role="toolbar"
    aria-label="Drawing"
  >
    <div class="flex items-center gap-0.5">
      <button
        v-for="g in GROUPS"
        :key="g.id"
        class="rounded-sm px-2.5 py-0.5 text-[12.5px] hover:bg-held"
        :class="
          s.group === g.id ? 'font-semibold underline decoration-saffron decoration-2 underline-offset-4' : ''
        "
        :aria-pressed="s.group === g.id"
        :title="g.says"
        @click="open(g.id)"
      >
        {{ g.id }}
      </button>
      <span class="ml-auto flex items-center gap-1">
        <button
          class="btn !px-2 !py-0.5"
          :disabled="!s.past.length"
          title="Undo in the drawing, Ctrl+Z"
          @click="s.step(false)"
        >
          undo
        </button>
        <button
          class="btn !px-2 !py-0.5"
          :disabled="!s.future.length"
          title="Redo, Ctrl+Shift+Z"
          @click="s.step(true)"
        >
          redo
        </button>
      </span>
    </div>
    <div class="mt-0.5 flex min-h-[28px] flex-wrap items-center gap-0.5">
      <button
        v-for="t in tools"
        :key="t.id"
        class="grid h-[27px] w-[27px] place-items-center rounded-sm border hover:border-ink"
        :class="s.tool === t ? 'border-saffron bg-held' : 'border-transparent'"
        :aria-pressed="s.tool === t"
        :aria-label="t.name"
        :title="`${t.name}  (${t.key})${t.says[0] ? ': ' + t.says[0] : ''}`"
        @click="s.take(t)"
      >
        <svg
          viewBox="0 0 20 20"
          width="18"
          height="18"
          fill="none"
          stroke="currentColor"
          stroke-width="1.6"
          stroke-linecap="round"
        >
          <path :d="t.icon" />
        </svg>
      </button>
      <button
        v-if="s.group === 'fit'"
        class="btn ml-1 !px-2 !py-0.5"
        :disabled="s.drawing || !s.trace?.traces.some((t) => t.length)"
        @click="s.drawAll()"
      >
        whole outline
      </button>
      <button
        v-if="s.group === 'fit' && s.way !== null"
        class="btn !px-2 !py-0.5"
        :disabled="s.drawing"
        title="The next of the drawings that explain the trace nearly as well"
        @click="s.drawOtherwise()"
      >
        another way
      </button>
      <label v-if="s.group === 'draw'" class="ml-1 flex items-center gap-1 text-[12px] text-soft">
        <input v-model="s.guide" type="checkbox" class="accent-saffron" />only a guide
      </label>
      <template v-if="s.group === 'relate' || s.group === 'size'">
        <p v-if="!s.of.length" class="px-1 text-[12px] text-soft">
          Pick one to three entities or ends on the paper; Shift adds.
        </p>
        <template v-else-if="s.group === 'relate'">
          <button
            v-for="x in s.offers?.relations ?? []"
            :key="x.kind + x.of.join()"
            class="btn !px-2 !py-0.5"
            :class="{ '!border-brick text-brick': x.verdict === 'contradicts' || x.verdict === 'says no' }"
            :title="
              x.verdict === 'contradicts'
                ? 'It contradicts what is held'
                : `The scan ${x.verdict || 'is not asked'}`
            "
            @click="s.hold(x)"
          >
            {{ said(x.kind) }} <span class="fig text-soft">{{ signed(x.cost) }}</span>
          </button>
        </template>
        <template v-else>
          <button
            v-for="z in s.offers?.sizes ?? []"
            :key="z.kind + z.of.join()"
            class="btn !px-2 !py-0.5"
            @click="s.measure(z)"
          >
            {{ said(z.kind) }}
            <span class="fig"
              >{{ z.value.toFixed(z.unit === 'deg' ? 2 : 3) }}{{ z.unit === 'deg' ? '°' : '' }}</span
            >
          </button>
        </template>
      </template>
    </div>
  </div>
</template>
