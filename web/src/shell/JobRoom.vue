<script setup lang="ts">
/** One job's room: line above, yard left, view between, bench right, wall below; keys for all of it. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import Bench from '../bench/Bench.vue'
import Paper from '../paper/Paper.vue'
import { useSketch } from '../paper/sketch'
import { useJob } from '../state/job'
import { useMarks } from '../state/marks'
import { belt, TOOLS } from '../state/tools'
import View3D from '../view3d/View3D.vue'
import PairView from '../join/PairView.vue'
import Wall from '../wall/Wall.vue'
import Yard from '../yard/Yard.vue'
import FindTool from './FindTool.vue'
import Keys from './Keys.vue'
import StageLine from './StageLine.vue'

const props = defineProps<{ id: number }>()
const j = useJob()
const sketch = useSketch()
const marks = useMarks()
const view = ref<InstanceType<typeof View3D> | null>(null)
const finding = ref(false)
const keys = ref(false)
const lost = ref('')

const open = async () => {
  try {
    await j.open(props.id)
  } catch (e) {
    lost.value = (e as Error).message
  }
}
onMounted(open)
watch(() => props.id, open)
const papered = computed(() => j.hand?.kind === 'sketch' || (j.stage === 'Sketch' && !j.hand && j.stones.some((s) => s.produces === 'sketch')))

function picked(at: { slot: string; place: number[]; normal: number[] }) {
  const h = j.hand
  if (!h) return
  const round = (v: number[]) => v.map((x) => Number(x.toFixed(5)))
  if (at.slot === 'curve') { h.record.places.push(round(at.place)); if (h.record.places.length >= (h.record.closed ? 3 : 2)) j.tryIt(); return }
  if (at.slot === 'keep') { h.record.keep = round(at.place); j.slot = 'curve'; j.tryIt(); return }
  if (at.slot === 'bridge') {
    const need = h.record.way === 'stretch' ? 3 : 2
    h.record.places = [...(h.record.places.length >= need ? [] : h.record.places), round(at.place)]
    if (h.record.places.length === need) j.tryIt(0)
    return
  }
  const old = at.slot === 'place' ? h.record.pick : h.record[at.slot]?.pick
  const rule = h.kind === 'datum' && h.record.element === 'cylinder' ? 'same bend' : 'same facing'
  const pick = { place: round(at.place), normal: round(at.normal), rule, angle_deg: old?.rule === rule ? old.angle_deg : null }
  if (at.slot === 'place') h.record.pick = pick
  else h.record[at.slot] = { to: 'face', pick, height: { value: null, source: 'rounded' } }
  j.showPick(h.record.scan, pick, h.kind === 'datum' ? h.record.element : null)
  if (at.slot === 'start' && h.record.end.to === 'face' && !h.record.end.pick) j.slot = 'end'
  const ready = h.kind !== 'extrude' || ['start', 'end'].every((k) => h.record[k].to !== 'face' || h.record[k].pick)
  if (ready) j.tryIt(0)
}

function widen(factor: number) {
  const h = j.hand
  if (j.slot === 'marks') { if (marks.by === 'brush') marks.radius = Number((marks.radius * factor).toFixed(2)); else if (marks.by in marks.angle) marks.angle[marks.by] = Math.round(Math.min(60, Math.max(1, marks.angle[marks.by] * factor))); return }
  const pick = h?.kind === 'datum' ? h.record.pick : j.slot && h?.record[j.slot]?.pick
  if (!h || !pick) return
  const now = pick.angle_deg ?? (pick.rule === 'same bend' ? 20 : 12)
  pick.angle_deg = Math.min(60, Math.max(1, Math.round(now * factor * 10) / 10))
  j.showPick(h.record.scan, pick, h.kind === 'datum' ? h.record.element : null)
  j.tryIt()
}

function onKey(e: KeyboardEvent) {
  const t = e.target as HTMLElement
  const typing = t.matches('input:not([type=range]):not([type=checkbox]), textarea, select')
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z') {
    if (typing) return
    e.preventDefault()
    if (e.shiftKey ? j.job?.redo : j.job?.undo) j.act('POST', e.shiftKey ? '/redo' : '/undo')
    return
  }
  if (e.key === 'Escape') {
    if (finding.value || keys.value) { finding.value = keys.value = false; return }
    if (typing) return t.blur()
    if (j.hand) return j.drop()
    j.chosenStone = null
    j.lit = null
    if (j.proof) { j.proof = null; j.show.tide = false }
    return
  }
  if (e.ctrlKey || e.metaKey || e.altKey) return
  if (e.key === 'Enter' && j.hand && (!typing || t.matches('input')) && !t.matches('button')) {
    e.preventDefault()
    t.blur()
    j.lay()
    return
  }
  if (typing) return
  const tool = TOOLS.find((x) => x.id === belt()[Number(e.key) - 1])
  const acts: Record<string, () => void> = {
    '/': () => (finding.value = true),
    '?': () => (keys.value = true),
    ' ': () => {
      if (t.matches('button, [role=button]')) return
      j.show.tide = false
      const scan = j.show.scan
      j.show.scan = !scan || !j.body
      j.show.model = scan
    },
    d: () => { if (j.check || j.proof) j.show.tide = !j.show.tide },
    a: () => (j.alone = j.alone ? null : j.chosenStone ?? j.body?.id ?? null),
    f: () => view.value?.fit(),
    ',': () => view.value?.back(),
    '.': () => view.value?.forward(),
    '[': () => widen(1 / 1.25),
    ']': () => widen(1.25),
  }
  const act = acts[e.key.length === 1 ? e.key.toLowerCase() : e.key]
  if (act) {
    if (e.key === ' ' && t.matches('button')) return
    e.preventDefault()
    act()
  } else if (tool && !tool.needs(j) && (!tool.fits || tool.fits(j))) {
    e.preventDefault()
    j.stage = tool.stage
    tool.start(j)
  }
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => {
  window.removeEventListener('keydown', onKey)
  j.close()
})
</script>

<template>
  <div v-if="lost" class="grid h-full place-items-center">
    <p class="note-bad" role="alert">{{ lost }} <RouterLink to="/" class="underline">Back to the shelf</RouterLink></p>
  </div>
  <div v-else-if="j.job" class="flex h-full flex-col">
    <StageLine @find="finding = true" @keys="keys = true" />
    <div class="flex min-h-0 flex-1">
      <Yard />
      <main class="relative flex min-w-0 flex-1">
        <PairView v-if="j.hand?.kind === 'match' && j.slot === 'pairs'" />
        <View3D v-show="!(j.hand?.kind === 'match' && j.slot === 'pairs')" ref="view" :cut="papered ? sketch.cut : null" @picked="picked" @rim="(i) => (j.rimClicked = { at: i })" @over="(i) => (j.rimOver = i)" />
        <Paper v-if="papered" class="w-[60%] shrink-0" />
        <p v-if="j.error" class="note-bad absolute bottom-4 left-1/2 z-10 max-w-md -translate-x-1/2" role="alert">
          {{ j.error }} <button class="ml-2 underline" @click="j.error = ''">Close</button>
        </p>
      </main>
      <Bench />
    </div>
    <Wall />
    <FindTool v-if="finding" @close="finding = false" />
    <Keys v-if="keys" @close="keys = false" />
  </div>
</template>
