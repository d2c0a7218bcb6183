<script setup lang="ts">
/** The yard: what there is, by kind, each with its eye and alone. */
import { Eye, EyeOff, Focus, PanelLeftClose, PanelLeftOpen } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { call, type ProofView, type Stone } from '../api/client'
import { count } from '../state/format'
import { useJob } from '../state/job'

const j = useJob()
const folded = ref(false)
const GROUPS: { title: string; produces: string[]; colour: string }[] = [
  { title: 'Scans', produces: ['scan'], colour: 'bg-sand' },
  { title: 'Datums and frames', produces: ['datum', 'frame'], colour: 'bg-plum' },
  { title: 'Sketches and curves', produces: ['sketch'], colour: 'bg-inkblue' },
  { title: 'Bodies', produces: ['body'], colour: 'bg-slate' },
]
const groups = computed(() =>
  GROUPS.map((g) => {
    let items = j.stones.filter((s) => g.produces.includes(s.produces) && s.status !== 'off')
    if (g.title === 'Bodies') items = items.slice(-1) // the features are on the wall; the body is one
    return { ...g, items }
  }).filter((g) => g.items.length),
)
const figure = (s: Stone) => (s.produces === 'scan' ? count((s.summary as any).triangles ?? 0) : (String((s.summary as any).says ?? '').replace(/^(⌀ \S+) ±.*/, '$1')))
function toggle(s: Stone) {
  if (j.hidden.has(s.id)) j.hidden.delete(s.id)
  else j.hidden.add(s.id)
}
async function reopen(id: number) {
  const p = await call<ProofView>('GET', `/jobs/${j.job!.id}/proofs/${id}`)
  j.drop()
  j.proof = p
  j.tolerance = (p.settings as any).tolerance
  j.show.tide = true
  j.stage = 'Check'
}
function take(s: Stone) {
  const h = j.hand
  // A datum clicked while the frame is in hand fills the next slot.
  if (h?.kind === 'frame' && s.produces === 'datum' && j.slot) {
    h.record[j.slot] = s.id
    j.tryIt(0)
  } else j.chosenStone = j.chosenStone === s.id ? null : s.id
}
</script>

<template>
  <aside v-if="folded" class="w-9 shrink-0 border-r border-rule bg-sheet pt-2 text-center">
    <button aria-label="Unfold the yard" title="Unfold the yard" @click="folded = false"><PanelLeftOpen :size="16" /></button>
  </aside>
  <aside v-else class="flex w-[216px] shrink-0 flex-col overflow-y-auto border-r border-rule bg-sheet py-2.5" aria-label="Yard">
    <section v-for="g in groups" :key="g.title" class="mb-2">
      <h3 class="flex justify-between px-3 py-1 font-normal"><span>{{ g.title }}</span><span class="fig">{{ g.items.length }}</span></h3>
      <ul>
        <li v-for="s in g.items" :key="s.id" class="group flex items-center border-l-[3px] pr-1.5" :class="j.chosenStone === s.id ? 'border-saffron bg-held' : 'border-transparent hover:bg-ground'">
          <button class="flex min-w-0 flex-1 items-center gap-2 py-1 pl-2.5 text-left" @click="take(s)" @dblclick="j.takeBack(s)">
            <span class="h-[11px] w-[11px] shrink-0 rounded-[2px]" :class="g.colour" />
            <span class="truncate" :class="{ 'opacity-45': !j.visible(s.id) }">{{ g.title === 'Bodies' ? 'Model' : s.name }}</span>
          </button>
          <span class="fig max-w-[84px] truncate text-soft group-hover:hidden">{{ figure(s) }}</span>
          <span v-if="s.produces === 'scan' || s.produces === 'body'" class="hidden gap-1.5 group-focus-within:flex group-hover:flex">
            <button :aria-label="`${j.hidden.has(s.id) ? 'Show' : 'Hide'} ${s.name}`" :title="j.hidden.has(s.id) ? 'Show' : 'Hide'" @click="toggle(s)"><EyeOff v-if="j.hidden.has(s.id)" :size="14" /><Eye v-else :size="14" /></button>
            <button :aria-label="`${s.name} alone`" title="Alone  A" @click="j.alone = j.alone === s.id ? null : s.id"><Focus :size="14" :class="{ 'text-saffron': j.alone === s.id }" /></button>
          </span>
        </li>
      </ul>
    </section>
    <section v-if="j.job!.proofs.length" class="mb-2">
      <h3 class="flex justify-between px-3 py-1 font-normal"><span>Proofs</span><span class="fig">{{ j.job!.proofs.length }}</span></h3>
      <button v-for="p in j.job!.proofs" :key="p.id" class="flex w-full items-center gap-2 border-l-[3px] py-1 pl-2.5 pr-3 text-left hover:bg-ground" :class="j.proof?.id === p.id ? 'border-saffron bg-held' : 'border-transparent'" @click="reopen(p.id)">
        <span class="h-[11px] w-[11px] shrink-0 rounded-[2px] bg-ink" /><span class="flex-1 truncate">{{ p.name }}</span><span class="fig text-soft">{{ p.rms?.toFixed(3) }}</span>
      </button>
    </section>
    <button class="mt-auto flex items-center gap-1.5 px-3 py-1 text-soft hover:text-ink" @click="folded = true"><PanelLeftClose :size="14" /> Fold</button>
  </aside>
</template>
