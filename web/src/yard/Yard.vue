<script setup lang="ts">
/** The yard: what there is, by kind, each with its eye and alone. */
import { Eye, EyeOff, Focus, PanelLeftClose, PanelLeftOpen } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { call, type ProofView, type Stone } from '../api/client'
import { count } from '../state/format'
import { useJob } from '../state/job'
import { STONES } from '../view3d/scene'

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
    if (g.title === 'Scans') items = j.joining ? [...j.joinScans, ...(j.merged ? [j.merged] : [])] : j.tips
    if (g.title === 'Bodies') items = items.slice(-1) // the features are on the wall; the body is one
    return { ...g, items }
  }).filter((g) => g.items.length),
)
const figure = (s: Stone) => (s.produces === 'scan' ? count((s.summary as any).triangles || (s.summary as any).points || 0) : (String((s.summary as any).says ?? '').replace(/^(⌀ \S+) ±.*/, '$1')))
/** A scan goes by its capture, however often it was bettered since. */
const of = (s: Stone) => (s.produces === 'scan' ? j.root(s.id) : s.id)
const nameOf = (s: Stone) => (s.produces === 'scan' ? j.byId.get(of(s))?.name ?? s.name : s.name)
const captures = computed(() => j.allStones.filter((s) => s.kind === 'scan' || s.kind === 'combine').map((s) => s.id))
const stone = (s: Stone) => (s.produces === 'scan' ? `#${STONES[Math.max(0, captures.value.indexOf(of(s))) % STONES.length].toString(16)}` : undefined)
function toggle(s: Stone) {
  if (j.hidden.has(of(s))) j.hidden.delete(of(s))
  else j.hidden.add(of(s))
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
  } else if (s.produces === 'scan' && !h) {
    j.tip = of(s)
    j.chosenStone = j.tips.length > 1 || j.chosenStone !== s.id ? s.id : null
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
        <li v-for="s in g.items" :key="s.id" class="group flex items-center border-l-[3px] pr-1.5" :class="j.chosenStone === s.id || (g.title === 'Scans' && j.tips.length > 1 && j.scan?.id === s.id) ? 'border-saffron bg-held' : 'border-transparent hover:bg-ground'">
          <button class="flex min-w-0 flex-1 items-center gap-2 py-1 pl-2.5 text-left" @click="take(s)" @dblclick="j.takeBack(s)">
            <span class="h-[11px] w-[11px] shrink-0 rounded-[2px]" :class="g.colour" :style="{ background: stone(s) }" />
            <span class="truncate" :class="{ 'opacity-45': !j.visible(s.id) }">{{ g.title === 'Bodies' ? 'Model' : nameOf(s) }}</span>
          </button>
          <span class="fig max-w-[84px] truncate text-soft group-hover:hidden">{{ figure(s) }}</span>
          <span v-if="s.produces === 'scan' || s.produces === 'body'" class="hidden gap-1.5 group-focus-within:flex group-hover:flex">
            <button :aria-label="`${j.hidden.has(of(s)) ? 'Show' : 'Hide'} ${nameOf(s)}`" :title="j.hidden.has(of(s)) ? 'Show' : 'Hide'" @click="toggle(s)"><EyeOff v-if="j.hidden.has(of(s))" :size="14" /><Eye v-else :size="14" /></button>
            <button :aria-label="`${nameOf(s)} alone`" title="Alone  A" @click="j.alone = j.alone === of(s) ? null : of(s)"><Focus :size="14" :class="{ 'text-saffron': j.alone === of(s) }" /></button>
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
