<script setup lang="ts">
/**
 * The yard: what there is, by kind of thing, each with its eye and alone; long lists fold, and can be
 * filtered.
 */
import { ChevronDown, ChevronRight, Eye, EyeOff, Focus, PanelLeftClose, PanelLeftOpen } from 'lucide-vue-next'
import { computed, reactive, ref } from 'vue'
import { call } from '../api/client'
import type { ProofView, ScanLine, Stone } from '../api/types'
import { count } from '../state/format'
import { useMade } from '../state/made'
import { useRoom } from '../state/room'
import { isJoining } from '../view3d/plan'
import { BODIES, STONES, css } from '../view3d/stone'

const MANY = 20 // things from which on a filter is offered
const room = useRoom()
const { job: j, hand, shown } = room
const made = useMade()
const folded = ref(false)
const closed = reactive(new Set<string>())
const filter = ref('')
const GROUPS: { title: string; gives: string[]; colour: string }[] = [
  { title: 'Scans', gives: ['scan'], colour: 'bg-sand' },
  { title: 'Datums and frames', gives: ['datum', 'frame'], colour: 'bg-plum' },
  { title: 'Sketches and curves', gives: ['sketch', 'curve'], colour: 'bg-inkblue' },
  { title: 'Bodies', gives: ['body'], colour: 'bg-slate' },
  { title: 'Foreign models', gives: ['model'], colour: 'bg-slate' },
]
/** The scans as they stand; the features of a body are on the wall, here are the bodies that stand. */
function listed(gives: string[]): Stone[] {
  if (gives.includes('scan'))
    return isJoining(room) ? [...j.joinScans, ...(j.merged ? [j.merged] : [])] : j.tips
  const all = j.stones.filter((s) => gives.includes(s.produces) && s.status !== 'off')
  return gives.includes('body') ? (j.bodies.length > 1 ? j.bodies : all.slice(-1)) : all
}
const isScan = (s: Stone) => s.produces === 'scan'
/** A scan goes by its capture, however often it was bettered since. */
const of = (s: Stone) => (isScan(s) ? j.root(s.id) : s.id)
const nameOf = (s: Stone) =>
  isScan(s)
    ? (j.byId.get(of(s))?.name ?? s.name)
    : s.produces === 'body' && j.bodies.length < 2
      ? 'Model'
      : s.name
const all = computed(() => GROUPS.map((g) => ({ ...g, all: listed(g.gives) })).filter((g) => g.all.length))
const total = computed(() => all.value.reduce((n, g) => n + g.all.length, 0))
const groups = computed(() => {
  const wanted = filter.value.trim().toLowerCase()
  return all.value.map((g) => ({
    ...g,
    open: !closed.has(g.title) || !!wanted,
    items: g.all.filter((s) => nameOf(s).toLowerCase().includes(wanted)),
  }))
})
function fold(title: string) {
  if (!closed.delete(title)) closed.add(title)
}
const figure = (s: Stone) => {
  const told = s.told as unknown as ScanLine
  return isScan(s)
    ? count(told.triangles || told.points || 0)
    : (told.says ?? '').replace(/^((?:⌀ )?[\d.]+) ± [\d.]+(°?)$/, '$1$2')
}
const chip = (s: Stone) =>
  isScan(s)
    ? css(STONES[Math.max(0, j.captures.indexOf(of(s))) % STONES.length])
    : s.produces === 'body' && s.id !== j.body?.id
      ? css(BODIES[j.bodies.indexOf(s) % BODIES.length])
      : undefined
const workedOn = (s: Stone) => isScan(s) && j.tips.length > 1 && j.scan?.id === s.id
const hasEye = (s: Stone) => isScan(s) || s.produces === 'body'
async function reopen(id: number) {
  const p = await call<ProofView>('GET', `/jobs/${j.job!.id}/proofs/${id}`)
  hand.drop()
  shown.proof = p
  shown.show.tide = true
  shown.stage = 'Check'
}
/** A click fills the slot that waits for such a thing; else it chooses. */
function take(s: Stone) {
  const yard = hand.spot?.yard
  if (hand.record && yard?.gives.includes(s.produces)) return yard.put(s, hand.record, room)
  const again = shown.chosen === s.id
  if (isScan(s) && !hand.held) {
    j.tip = of(s)
    shown.chosen = j.tips.length > 1 || !again ? s.id : null
    return
  }
  shown.chosen = again ? null : s.id
  if (!hand.held && s.produces === 'datum') made.give({ what: 'datum', id: s.id, shown: [0, 0, 0] }, true)
}
</script>

<template>
  <aside v-if="folded" class="w-9 shrink-0 border-r border-rule bg-sheet pt-2 text-center">
    <button aria-label="Unfold the yard" title="Unfold the yard" @click="folded = false">
      <PanelLeftOpen :size="16" />
    </button>
  </aside>
  <aside v-else class="flex w-[216px] shrink-0 flex-col border-r border-rule bg-sheet" aria-label="Yard">
    <div v-if="total > MANY" class="px-3 pt-2.5">
      <input
        v-model="filter"
        class="field w-full"
        placeholder="Filter by name"
        aria-label="Filter the yard"
      />
    </div>
    <div class="min-h-0 flex-1 overflow-y-auto py-2.5">
      <section v-for="g in groups" :key="g.title" class="mb-2">
        <h3 class="font-normal">
          <button
            class="flex w-full items-center justify-between px-3 py-1"
            :aria-expanded="g.open"
            @click="fold(g.title)"
          >
            <span class="flex items-center gap-1"
              ><component :is="g.open ? ChevronDown : ChevronRight" :size="12" aria-hidden="true" />{{
                g.title
              }}</span
            ><span class="fig">{{ g.items.length }}</span>
          </button>
        </h3>
        <ul v-if="g.open">
          <li
            v-for="s in g.items"
            :key="s.id"
            class="group flex items-center border-l-[3px] pr-1.5"
            :class="
              shown.chosen === s.id || workedOn(s)
                ? 'border-saffron bg-held'
                : 'border-transparent hover:bg-ground'
            "
          >
            <button
              class="flex min-w-0 flex-1 items-center gap-2 py-1 pl-2.5 pr-1.5 text-left"
              @click="take(s)"
              @dblclick="hand.takeBack(s)"
            >
              <span
                class="h-[11px] w-[11px] shrink-0 rounded-[2px]"
                :class="g.colour"
                :style="{ background: chip(s) }"
              />
              <span class="truncate" :class="{ 'opacity-45': !shown.visible(s.id) }" :title="nameOf(s)">{{
                nameOf(s)
              }}</span>
            </button>
            <span class="fig max-w-[84px] truncate text-soft" :class="{ 'group-hover:hidden': hasEye(s) }">{{
              figure(s)
            }}</span>
            <span v-if="hasEye(s)" class="hidden gap-1.5 group-focus-within:flex group-hover:flex">
              <button
                :aria-label="`${shown.hidden.has(of(s)) ? 'Show' : 'Hide'} ${nameOf(s)}`"
                :title="shown.hidden.has(of(s)) ? 'Show' : 'Hide'"
                @click="shown.toggle(s.id)"
              >
                <EyeOff v-if="shown.hidden.has(of(s))" :size="14" /><Eye v-else :size="14" />
              </button>
              <button
                :aria-label="`${nameOf(s)} alone`"
                title="Alone  A"
                @click="shown.alone = shown.alone === of(s) ? null : of(s)"
              >
                <Focus :size="14" :class="{ 'text-saffron': shown.alone === of(s) }" />
              </button>
            </span>
          </li>
        </ul>
      </section>
      <section v-if="j.job!.proofs.length" class="mb-2">
        <h3 class="flex justify-between px-3 py-1 font-normal">
          <span>Proofs</span><span class="fig">{{ j.job!.proofs.length }}</span>
        </h3>
        <button
          v-for="p in j.job!.proofs"
          :key="p.id"
          class="flex w-full items-center gap-2 border-l-[3px] py-1 pl-2.5 pr-3 text-left hover:bg-ground"
          :class="shown.proof?.id === p.id ? 'border-saffron bg-held' : 'border-transparent'"
          @click="reopen(p.id)"
        >
          <span class="h-[11px] w-[11px] shrink-0 rounded-[2px] bg-ink" /><span class="flex-1 truncate">{{
            p.name
          }}</span
          ><span class="fig text-soft">{{ p.rms?.toFixed(3) }}</span>
        </button>
      </section>
    </div>
    <slot />
    <button class="flex items-center gap-1.5 px-3 py-2 text-soft hover:text-ink" @click="folded = true">
      <PanelLeftClose :size="14" /> Fold
    </button>
  </aside>
</template>
