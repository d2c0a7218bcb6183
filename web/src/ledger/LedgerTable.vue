<script setup lang="ts">
/** The whole ledger: every value of the job, under the view. */
import { ArrowDown, ArrowUp, X } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import type { ValueLine } from '../api/types'
import { mm, whole } from '../state/format'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import LedgerRow from './LedgerRow.vue'
import { matching, rowsOf, sorted, type Column } from './rows'
import { useSolve } from './solve'

const j = useJob()
const shown = useShown()
const solve = useSolve()
const SAYS =
  'The ticked values, or all that follow the scan, are moved together to where the scan lies nearest.'
const text = ref('')
const by = ref<Column | null>(null)
const down = ref(false)
const COLUMNS: [Column, string, string][] = [
  ['name', 'value', 'text-left'],
  ['stone', 'stone', 'text-left'],
  ['measured', 'the scan says', 'text-right'],
  ['chosen', 'chosen', 'text-right'],
  ['source', 'why', 'text-left'],
  ['cost', 'rms cost', 'text-right'],
]
/** What stones last said stays on the table while they are laid again. */
const said = new Map<string, ValueLine[]>()
const all = computed(() => {
  const now = j.allStones.flatMap((s) => {
    const mine = (j.job?.values ?? []).filter((v) => v.step === s.id)
    if (!mine.length && s.status === 'pending') return said.get(s.id) ?? []
    said.set(s.id, mine)
    return mine
  })
  return rowsOf(now, j.allStones)
})
const rows = computed(() => sorted(matching(all.value, text.value), by.value, down.value))
function sort(c: Column) {
  if (by.value !== c) {
    by.value = c
    down.value = false
  } else if (!down.value) down.value = true
  else by.value = null
}
</script>

<template>
  <section
    class="flex h-[44%] min-h-[190px] shrink-0 flex-col border-t border-ink bg-sheet"
    aria-label="The whole ledger"
  >
    <header class="flex items-center gap-2 px-3 py-1.5">
      <h2>Ledger</h2>
      <input
        v-model="text"
        class="field w-[150px] !py-0.5"
        placeholder="Find a value"
        aria-label="Find a value"
        @keydown.esc.stop="text = ''"
      />
      <span class="text-soft">{{ rows.length }} of {{ all.length }}</span>
      <span class="flex-1" />
      <template v-if="solve.running">
        <span class="max-w-[260px] truncate text-soft" role="status">{{ solve.running.message }}</span>
        <span class="h-1 w-24 bg-rule"
          ><span class="block h-1 bg-saffron" :style="{ width: `${100 * solve.running.progress}%` }"
        /></span>
        <button class="btn !py-0.5" @click="solve.stop">Stop</button>
      </template>
      <template v-else-if="solve.found">
        <span role="status"
          >The scan lies
          <b class="fig font-semibold" data-figure="solved"
            >{{ mm(solve.found.rms_before) }} → {{ mm(solve.found.rms_after) }} mm</b
          >
          off, rms</span
        >
        <button class="btn btn-on !py-0.5" :disabled="solve.taking" @click="solve.take">Take all</button>
        <button class="btn !py-0.5" @click="solve.found = null">Leave</button>
      </template>
      <button v-else class="btn !py-0.5" :disabled="!j.body" :title="SAYS" @click="solve.ask">
        Solve {{ solve.ticked.size ? `${solve.ticked.size} ticked` : 'all' }} against the scan
      </button>
      <button class="btn !px-1.5 !py-0.5" aria-label="Close the ledger" @click="shown.ledger = false">
        <X :size="14" />
      </button>
    </header>
    <p v-if="solve.error" class="note-bad mx-3" role="alert">{{ solve.error }}</p>
    <p v-for="s in solve.found?.said ?? []" :key="s" class="note mx-3 mb-1">{{ s }}</p>
    <p v-if="solve.found" class="px-3 pb-1 text-soft">
      Over {{ whole(solve.found.places) }} places away from edges; ± is one standard deviation beside all the
      others. Nothing is changed until they are taken.
    </p>
    <div class="min-h-0 flex-1 overflow-auto">
      <table class="w-full border-collapse text-[12px]">
        <thead class="sticky top-0 bg-sheet">
          <tr class="text-[11.5px] text-soft">
            <th class="w-7" />
            <th v-for="[c, words, side] in COLUMNS" :key="c" class="px-1.5 py-1 font-medium" :class="side">
              <button class="inline-flex items-center gap-0.5 hover:text-ink" @click="sort(c)">
                {{ words }}
                <component :is="down ? ArrowDown : ArrowUp" v-if="by === c" :size="11" />
              </button>
            </th>
            <th v-if="solve.found" class="px-1.5 py-1 text-right font-medium">solved</th>
            <th v-else class="px-1.5 py-1 text-left font-medium">used by</th>
          </tr>
        </thead>
        <tbody class="[&_td]:px-1.5 [&_td]:py-[3px]">
          <LedgerRow v-for="r in rows" :key="r.name" :row="r" />
        </tbody>
      </table>
      <p v-if="!rows.length" class="px-3 py-4 text-soft">
        {{
          all.length ? 'No value is called so.' : 'No value yet: datums, sketches and features bring them.'
        }}
      </p>
    </div>
  </section>
</template>
