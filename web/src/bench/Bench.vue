<script setup lang="ts">
/** The bench: the one thing being done, or the stage's tools and the belt. */
import { computed, ref } from 'vue'
import { mm } from '../state/format'
import { useJob } from '../state/job'
import { belt, TOOLS } from '../state/tools'
import BackgroundBench from './BackgroundBench.vue'
import BridgeBench from './BridgeBench.vue'
import CheckBench from './CheckBench.vue'
import CombineBench from './CombineBench.vue'
import CurveBench from './CurveBench.vue'
import DatumBench from './DatumBench.vue'
import DeliverBench from './DeliverBench.vue'
import DeviationPanel from './DeviationPanel.vue'
import ExtrudeBench from './ExtrudeBench.vue'
import FilletBench from './FilletBench.vue'
import FrameBench from './FrameBench.vue'
import HolesBench from './HolesBench.vue'
import Ledger from './Ledger.vue'
import NumbersBench from './NumbersBench.vue'
import RepairBench from './RepairBench.vue'
import ScanBench from './ScanBench.vue'
import SketchBench from './SketchBench.vue'
import Working from './Working.vue'
import JoinBench from '../join/JoinBench.vue'
import JoinPanel from '../join/JoinPanel.vue'
import SurveyPanel from '../clean/SurveyPanel.vue'
import { FORMS as NUMBERS } from '../clean/forms'

const j = useJob()
const FORMS: Record<string, any> = { datum: DatumBench, frame: FrameBench, sketch: SketchBench, extrude: ExtrudeBench, fillet: FilletBench, check: CheckBench, scan: ScanBench,
  background: BackgroundBench, repair: RepairBench, holes: HolesBench, bridge: BridgeBench, curvecut: CurveBench, combine: CombineBench, match: JoinBench, settle: JoinBench, merge: JoinBench,
  ...Object.fromEntries(Object.keys(NUMBERS).map((k) => [k, NumbersBench])),
}
const TITLES: Record<string, string> = { datum: 'Datum', frame: 'Frame', sketch: 'Sketch', extrude: 'Extrude', fillet: 'Fillet', check: 'Deviation map', scan: 'Scan',
  background: 'Background', repair: 'Repair', holes: 'Patches', bridge: 'Bridge', curvecut: 'Cut', combine: 'Combined cloud', match: 'Rough match', settle: 'Settled scans', merge: 'Merged mesh',
  ...Object.fromEntries(Object.entries(NUMBERS).map(([k, f]) => [k, f.title])),
}
const tools = computed(() => TOOLS.filter((t) => t.stage === j.stage && (!t.fits || t.fits(j))))
const pinned = ref(belt())
const belted = computed(() => pinned.value.map((id) => TOOLS.find((t) => t.id === id)).filter(Boolean))
function pin(id: string) {
  pinned.value = pinned.value.includes(id) ? pinned.value.filter((x) => x !== id) : [...pinned.value, id].slice(0, 8)
  localStorage.setItem('mason.belt', JSON.stringify(pinned.value))
}
const ready = computed(() => {
  const h = j.hand
  if (!h) return false
  if (h.kind === 'datum') return !!h.record.pick
  if (h.kind === 'sketch') return h.record.strokes.length > 0
  if (h.kind === 'fillet') return h.record.edges.length > 0
  if (h.kind === 'extrude') return ['start', 'end'].every((k) => h.record[k].to !== 'face' || h.record[k].pick)
  if (h.kind === 'background') return h.record.way === 'slab' ? !!j.preview : h.record.marks.length > 0
  if (h.kind === 'curvecut') return h.record.places.length >= (h.record.closed ? 3 : 2)
  if (h.kind === 'bridge') return h.record.places.length >= (h.record.way === 'stretch' ? 3 : 2)
  if (h.kind === 'combine') return h.record.scans.length > 1
  if (h.kind === 'match') return Object.keys((j.preview?.summary as any)?.motions ?? {}).length > 1
  if (h.kind === 'settle' || h.kind === 'merge') return !!j.preview && j.preview.status !== 'failed'
  if (h.kind === 'repair') return h.record.fix.length > 0
  if (h.kind === 'holes') return h.record.which !== 'picked' || h.record.places.length > 0
  return true
})
const LATER: Record<string, string> = {
  Zones: 'The surfaces a scan is made of are read here. Until then pick faces where a tool asks for them.',
}
function start(t: (typeof TOOLS)[number]) {
  j.stage = t.stage
  t.start(j)
}
const VERBS: Record<string, (s: any) => string> = {
  background: (s) => (s?.goes ? `Clear away ${s.goes.toLocaleString('en')} ${s.what}` : 'Clear away the background'),
  noise: (s) => (s?.goes ? `Clear away ${s.goes.toLocaleString('en')} points` : 'Clear away noise'),
  holes: (s) => (s?.closed ? `Close ${s.closed} ${s.closed === 1 ? 'hole' : 'holes'}` : 'Close holes'),
  repair: () => 'Repair what is ticked',
  smooth: () => 'Smooth the mesh',
  decimate: (s) => (s ? `Leave ${s.triangles.toLocaleString('en')} triangles` : 'Decimate'),
  remesh: () => 'Lay even triangles',
  watertight: () => 'Lay the closed mesh',
  thin: (s) => (s ? `Leave ${s.points.toLocaleString('en')} points` : 'Thin out'),
  normals: () => 'Lay the normals',
  triangulate: () => 'Lay the mesh',
  combine: () => 'Combine the clouds',
  curvecut: () => 'Cut along the curve',
  match: (s) => { const n = Object.keys(s?.motions ?? {}).length; return s?.motions ? `Lay ${n} ${n === 1 ? 'place' : 'places'}` : 'Lay the places' },
  settle: () => 'Lay the settled places',
  merge: (s) => (s ? `Lay ${s.triangles.toLocaleString('en')} triangles` : 'Merge the scans'),
}
const verb = computed(() => {
  if (!j.hand) return ''
  const own = VERBS[j.hand.kind]?.(j.preview?.status === 'failed' ? null : j.preview?.summary)
  return own ? own + (j.hand.editing ? ' again' : '') : `Lay ${TITLES[j.hand.kind].toLowerCase()}${j.hand.editing ? ' again' : ''}`
})
const stoneOf = computed(() => (j.chosenStone ? j.byId.get(j.chosenStone) : null))
</script>

<template>
  <aside class="flex w-[316px] shrink-0 flex-col border-l border-rule bg-sheet" aria-label="Bench">
    <template v-if="j.hand">
      <div class="min-h-0 flex-1 overflow-y-auto">
        <component :is="FORMS[j.hand.kind]" :key="j.hand.record.id ?? j.hand.kind" />
        <div v-if="j.studying" class="px-3.5 pb-3"><Working :at="j.studying" @stop="j.stopTrying()" /></div>
        <div v-if="j.handError" class="section"><p class="note-bad" role="alert">{{ j.handError }}</p></div>
        <div v-else-if="j.preview?.says" class="section"><p class="note">{{ j.preview.says }}</p></div>
      </div>
      <div class="flex gap-2 border-t border-rule p-3.5">
        <button class="btn-main flex-1" :disabled="!ready || j.busy" title="Enter" @click="j.lay()">{{ j.busy ? 'Laying' : verb }}</button>
        <button class="btn" title="Esc" @click="j.drop()">Drop</button>
      </div>
    </template>
    <div v-else class="flex min-h-0 flex-1 flex-col overflow-y-auto">
      <DeviationPanel v-if="j.proof || (j.stage === 'Check' && j.check)" />
      <ScanBench v-if="j.stage === 'Scans'" />
      <DeliverBench v-else-if="j.stage === 'Deliver'" />
      <JoinPanel v-if="j.stage === 'Join' && !j.proof" />
      <SurveyPanel v-if="j.stage === 'Clean' && j.scan && (j.scan.summary as any).is !== 'cloud'" class="!border-t-0" />
      <section v-if="tools.length && !j.proof" class="section !border-t-0" :class="{ '!border-t': j.stage === 'Check' && j.check }">
        <h2 v-if="!(j.stage === 'Check' && j.check) && j.stage !== 'Join'">{{ j.stage }}</h2>
        <p v-if="j.stage === 'Clean' && j.tips.length > 1" class="mt-1 text-soft">Works on <b class="font-semibold text-ink">{{ j.byId.get(j.root(j.scan!.id))?.name }}</b>; choose another in the yard.</p>
        <ul class="mt-2" :class="j.stage === 'Clean' ? 'grid grid-cols-2 gap-x-1.5 gap-y-1' : 'space-y-1.5'">
          <li v-for="t in tools" :key="t.id" class="group flex gap-1">
            <button class="slot flex-1 !items-start flex-col !gap-0 disabled:opacity-50" :disabled="!!t.needs(j)" :title="t.says" @click="start(t)">
              <b class="font-semibold">{{ t.name }}</b><span v-if="j.stage !== 'Clean' || t.needs(j)" class="text-soft">{{ t.needs(j) ?? t.says }}</span>
            </button>
            <button class="w-6 rounded-sm text-soft hover:text-ink" :aria-pressed="pinned.includes(t.id)" :aria-label="pinned.includes(t.id) ? `${pinned.indexOf(t.id) + 1} on the belt, ${t.name}` : `+ Pin ${t.name} to the belt`" :title="pinned.includes(t.id) ? 'Take off the belt' : 'Pin to the belt'" @click="pin(t.id)">{{ pinned.includes(t.id) ? pinned.indexOf(t.id) + 1 : "+" }}</button>
          </li>
        </ul>
      </section>
      <section v-else-if="LATER[j.stage] && !j.proof" class="section !border-t-0"><h2>{{ j.stage }}</h2><p class="mt-2 text-soft">{{ LATER[j.stage] }}</p></section>
      <section v-if="stoneOf && stoneOf.says" class="section"><h3>{{ stoneOf.name }}</h3><p class="note mt-1.5">{{ stoneOf.says }}</p></section>
      <section v-if="stoneOf?.produces === 'datum'" class="section">
        <h3>{{ stoneOf.name }}</h3>
        <p class="fig mt-1">{{ (stoneOf.summary as any).says }}</p><p class="text-soft">scatter {{ mm((stoneOf.summary as any).scatter) }} mm over {{ (stoneOf.summary as any).facets?.toLocaleString('en') }} facets</p>
      </section>
      <Ledger v-if="['Build', 'Sketch', 'Frame'].includes(j.stage) && !j.proof" />
      <section v-if="!j.proof" class="section mt-auto">
        <div class="flex items-center justify-between"><h3>Belt</h3>
          <span class="flex gap-1.5">
            <button class="btn !px-2 !py-0.5" :disabled="!j.job!.undo" :title="j.job!.undo ? `Undo: ${j.job!.undo}  Ctrl+Z` : 'Nothing to undo'" @click="j.act('POST', '/undo')">Undo</button>
            <button class="btn !px-2 !py-0.5" :disabled="!j.job!.redo" :title="j.job!.redo ? `Redo: ${j.job!.redo}  Ctrl+Shift+Z` : 'Nothing to redo'" @click="j.act('POST', '/redo')">Redo</button>
          </span>
        </div>
        <div class="mt-2 grid grid-cols-4 gap-1">
          <button v-for="(t, i) in belted" :key="t!.id" class="btn flex-col !gap-0 !px-0.5 !py-1 !text-[11px] leading-tight" :disabled="!!t!.needs(j)" :title="`${t!.name}  ${i + 1}`" @click="start(t!)"><span class="fig text-soft">{{ i + 1 }}</span>{{ t!.name }}</button>
        </div>
      </section>
    </div>
  </aside>
</template>
