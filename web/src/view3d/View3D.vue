<script setup lang="ts">
/** The view: draws the plan, turns mouse work into looking, picking, dragging and marking. */
import { ChevronLeft, ChevronRight } from 'lucide-vue-next'
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import type { Vec3 } from '../api/types'
import { partWords, useProving } from '../check/proving'
import { stageOf } from '../kinds/registry'
import { mm, signed } from '../state/format'
import { isCloud, scanLine } from '../state/job'
import { useMade } from '../state/made'
import { MARK_SAYS } from '../state/marks'
import { useRoom } from '../state/room'
import CutBar from './CutBar.vue'
import { drawer } from './draw'
import MarkBar from './MarkBar.vue'
import { Fingers } from './fingers'
import { useMarking } from './marking'
import { spoken } from './spoken'
import { under, type Under, type What } from './picking'
import { planOf } from './plan'
import { SHINES } from './shine'
import Rose from './Rose.vue'
import Tags from './Tags.vue'
import { Viewer } from './viewer'

const room = useRoom()
const { job: j, hand, shown, marks: m } = room
const made = useMade()
const proving = useProving()
const box = ref<HTMLDivElement | null>(null)
const canvas = ref<HTMLCanvasElement | null>(null)
const turn = shallowRef(new THREE.Quaternion())
const history = ref({ back: false, forward: false })
const label = ref<{ x: number; y: number; text: string } | null>(null)
const loading = ref('')
/** How many pictures were drawn, where something lies over them. */
const pictures = ref(0)
const viewer = shallowRef<Viewer | null>(null)
let watcher: ResizeObserver | null = null

const plan = computed(() => planOf(room))
const drawn = computed(() => ({
  job: j.job?.id ?? 0,
  plan: plan.value,
  lit: hand.lit,
  edges: shown.show.edges,
  colours: shown.show.colours,
  ghost: plan.value.bodyOn && plan.value.scanOn && !!hand.held && !hand.spot?.takes.includes('edge'),
  shine: shown.show.shine,
  parts: proving.lit?.parts ?? null,
  stone: (id: string) => j.byId.get(id),
}))

onMounted(() => {
  const v = new Viewer(canvas.value!)
  viewer.value = v
  shown.looking = () => v.looking
  v.onDrawn = () => plan.value.tags.length && pictures.value++
  v.onTurn = (q) => (turn.value = q.clone())
  v.onHistory = (back, forward) => (history.value = { back, forward })
  v.layers.tide.onReach = v.layers.strain.onReach = (reach) => (shown.reach = reach)
  turn.value = v.camera.quaternion.clone()
  watcher = new ResizeObserver(([e]) => v.resize(e.contentRect.width, e.contentRect.height))
  watcher.observe(box.value!)
  ;(canvas.value as HTMLCanvasElement & { mason?: Viewer }).mason = v
  const { draw } = drawer(
    v,
    (e) => (j.error = e.message),
    (what) => (loading.value = what),
  )
  watch(drawn, (d) => j.job && draw(d), { immediate: true, flush: 'post' })
  watch(
    () => shown.cut && { ...shown.cut },
    (cut) => (shown.cutPlace = v.cutAt(cut)),
    { flush: 'post' },
  )
  watch(
    () => shown.facing,
    (f) => {
      if (!f) return
      v.lookAlong(new THREE.Vector3(...(f.from as Vec3)))
      v.fit(false)
    },
    { flush: 'post' },
  )
  watch(
    () => shown.looked,
    (view) => view && v.lookAs(view),
    { flush: 'post' },
  )
  watch(
    () => shown.focus,
    (f) => f && v.closeTo(f.framed ? (f.place as Vec3) : v.fromScan(f.place).toArray(), f.size),
    { flush: 'post' },
  )
})
onBeforeUnmount(() => {
  watcher?.disconnect()
  viewer.value?.dispose()
})

// What can be picked here and now: what the slot takes; with nothing in hand, anything something can be
// made of.
const FREELY: What[] = ['loop', 'edge', 'datum', 'scan']
const takes = computed<What[]>(() => {
  if (hand.held) return hand.spot?.takes ?? []
  if (plan.value.deviation) return ['tide']
  if (shown.proof || plan.value.joined || plan.value.tide) return []
  // Faces are measured where no scan lies over them.
  return plan.value.scanOn ? FREELY : [...FREELY, 'face']
})
const marking = useMarking(viewer)

type Press = {
  x: number
  y: number
  button: number
  moved: boolean
  pan: boolean
  handle: number
  stroke: boolean
}
let down: Press | null = null
let path: Under[] = []
const fingers = new Fingers()
function press(e: PointerEvent) {
  canvas.value!.setPointerCapture(e.pointerId)
  canvas.value!.focus()
  if (fingers.down(e)) {
    down = null
    return marking.drops()
  }
  if (marking.begins(e)) return marking.paint(e.offsetX, e.offsetY)
  const left = e.button === 0 && !e.shiftKey
  const grabbed = left && hand.spot?.handles ? under(viewer.value!, e.offsetX, e.offsetY, ['handle']) : null
  const first = left && hand.spot?.stroke ? under(viewer.value!, e.offsetX, e.offsetY, hand.spot.takes) : null
  path = first ? [first] : []
  down = {
    x: e.offsetX,
    y: e.offsetY,
    button: e.button,
    moved: false,
    pan: e.button === 2 || e.button === 1 || e.shiftKey,
    handle: grabbed?.what === 'handle' ? grabbed.index : -1,
    stroke: !!first,
  }
}
function drag(e: PointerEvent) {
  const v = viewer.value!
  const two = fingers.moves(e)
  if (two) {
    v.pan(two.dx, two.dy)
    v.zoom(two.zoom, two.x, two.y)
    return marking.zoomed()
  }
  if (marking.moves(e)) return
  if (!down) return hover(e)
  const dx = e.offsetX - down.x
  const dy = e.offsetY - down.y
  if (down.handle >= 0) {
    const { handles } = hand.spot!
    const at = under(v, e.offsetX, e.offsetY, ['scan'])
    const way = handles!.way?.(down.handle, hand.record!, room)
    const to = at?.what === 'scan' ? at.place : way && v.along(down.handle, way, e.offsetX, e.offsetY)
    if (to && Math.hypot(dx, dy) > 2) {
      down.moved = true
      handles!.move(down.handle, to, hand.record!, room)
    }
    return
  }
  if (!down.moved && Math.hypot(dx, dy) < 4) return
  if (down.stroke) {
    down.moved = true
    const at = under(v, e.offsetX, e.offsetY, hand.spot!.takes)
    if (at) path.push(at)
    return hand.spot!.stroke!.along(path, hand.record!, room)
  }
  if (!down.moved) v.remember()
  down.moved = true
  label.value = null
  if (down.pan) v.pan(dx, dy)
  else v.orbit(dx, dy)
  down.x = e.offsetX
  down.y = e.offsetY
}
function release(e: PointerEvent) {
  if (fingers.up(e)) return
  if (marking.finishes()) return
  const d = down
  down = null
  if (!d) return
  if (d.handle >= 0 && d.moved) return hand.tryIt()
  if (d.stroke && d.moved) return hand.spot?.stroke?.done(path, hand.record!, room)
  if (!d.moved && d.button === 0) click(e)
}
function cancel(e: PointerEvent) {
  fingers.up(e)
  down = null
  marking.drops()
}
let lastWheel = 0
function wheel(e: WheelEvent) {
  if (Date.now() - lastWheel > 600) viewer.value!.remember()
  lastWheel = Date.now()
  const by = Math.sign(e.deltaY) * Math.min(Math.abs(e.deltaY), 120) * 0.0016
  viewer.value!.zoom(Math.exp(by), e.offsetX, e.offsetY)
  marking.zoomed()
}
async function click(e: MouseEvent) {
  const at = under(viewer.value!, e.offsetX, e.offsetY, takes.value)
  if (!at) {
    if (!hand.held) made.clear()
    return
  }
  if (!hand.held) {
    if (!stageOf(shown.stage)?.takes(at, room) && at.what !== 'tide') made.give(at, e.ctrlKey || e.metaKey)
    return
  }
  const spot = hand.spot
  if (!spot) return
  if (spot.marks && at.what === 'scan') {
    const angle = m.angle[m.by] ?? null
    return hand.mark({ by: m.by, how: m.how, places: [at.place], normal: at.normal, angle_deg: angle })
  }
  try {
    await spot.put?.(at, hand.record!, room)
  } catch (err) {
    hand.error = (err as Error).message
  }
}

function hover(e: PointerEvent) {
  const v = viewer.value!
  const fine = takes.value.filter((t) => t !== 'scan' && t !== 'tide')
  const at = fine.length ? under(v, e.offsetX, e.offsetY, fine) : null
  v.layers.hover.set(at)
  if (hand.over !== at) hand.over = at
  label.value = valueUnder(e.offsetX, e.offsetY)
}
function valueUnder(x: number, y: number) {
  const v = viewer.value!
  if (plan.value.deviation) {
    const on = under(v, x, y, ['tide'])
    if (on?.what !== 'tide') return null
    const face = on.face ? ` ${partWords(on.face)}` : ''
    return { x, y, text: Number.isFinite(on.value) ? `${signed(on.value)}${face}` : `no answer${face}` }
  }
  if (!(plan.value.tide || plan.value.zones) || !v.layers.scan.mesh?.visible) return null
  const at = under(v, x, y, ['scan'])
  if (plan.value.zones) {
    const zone = at?.what === 'scan' ? v.layers.zones.at(at.facet) : -1
    return zone < 0 ? null : { x, y, text: plan.value.zones.names[zone] ?? '' }
  }
  const read = at?.what === 'scan' ? v.layers.tide.at(at.facet, new THREE.Vector3(...at.shown)) : null
  if (!read) return null
  return { x, y, text: Number.isFinite(read.value) ? signed(read.value) : 'no answer' }
}
function leave() {
  label.value = null
  marking.pointer.value = null
  viewer.value?.layers.hover.set(null)
  hand.over = null
}
function look(from: Vec3) {
  viewer.value?.lookAlong(new THREE.Vector3(...from))
  viewer.value?.fit(false)
}
const hint = computed(() => {
  const spot = hand.spot
  if (!spot || !hand.record) return ''
  if (spot.marks) return MARK_SAYS[marking.by.value]
  return typeof spot.says === 'string' ? spot.says : spot.says(hand.record, room)
})
const working = computed(() => {
  const t = j.running[0]
  return loading.value || (t ? `${t.message || t.label} ${Math.round(t.progress * 100)} %` : '')
})
const nameOf = (id: string) => j.byId.get(id)?.name ?? 'the model'
const shape = (points: [number, number][]) => points.map((p) => p.join(',')).join(' ')
defineExpose({
  back: () => viewer.value?.back(),
  forward: () => viewer.value?.forward(),
  fit: () => viewer.value?.fit(),
})
</script>

<template>
  <div ref="box" class="relative min-w-0 flex-1 overflow-hidden bg-ground" aria-label="View" role="region">
    <canvas
      ref="canvas"
      class="absolute inset-0 h-full w-full touch-none outline-none"
      tabindex="0"
      aria-label="3D view of scan and model"
      :style="{ cursor: hand.slot ? 'crosshair' : hand.over ? 'pointer' : 'default' }"
      @pointerdown="press"
      @pointermove="drag"
      @pointerup="release"
      @pointercancel="cancel"
      @pointerleave="leave"
      @wheel.prevent="wheel"
      @contextmenu.prevent
    />
    <p class="sr-only" role="status" data-under>{{ spoken(hand.over, nameOf) }}</p>
    <div class="pointer-events-none absolute inset-x-3.5 top-3 flex flex-wrap gap-1.5">
      <button
        class="btn btn-view"
        :disabled="!history.back"
        aria-label="View back"
        title="View back  ,"
        @click="viewer?.back()"
      >
        <ChevronLeft :size="15" />
      </button>
      <button
        class="btn btn-view"
        :disabled="!history.forward"
        aria-label="View forward"
        title="View forward  ."
        @click="viewer?.forward()"
      >
        <ChevronRight :size="15" />
      </button>
      <button
        class="btn btn-view"
        :class="{ 'btn-on': shown.show.scan }"
        :aria-pressed="shown.show.scan"
        title="Scan and model swap with Space"
        @click="shown.show.scan = !shown.show.scan"
      >
        scan
      </button>
      <button
        class="btn btn-view"
        :class="{ 'btn-on': shown.model }"
        :aria-pressed="shown.model"
        :disabled="!plan.body"
        title="Scan and model swap with Space"
        @click="shown.model = !shown.model"
      >
        model
      </button>
      <button
        class="btn btn-view"
        :class="{ 'btn-on': shown.show.tide }"
        :aria-pressed="shown.show.tide"
        :disabled="!j.check && !shown.proof && !(j.body && j.scan)"
        title="Deviation colours  D"
        @click="shown.show.tide = !shown.show.tide"
      >
        tide
      </button>
      <button
        class="btn btn-view"
        :class="{ 'btn-on': shown.show.edges }"
        :aria-pressed="shown.show.edges"
        title="Triangle edges"
        @click="shown.show.edges = !shown.show.edges"
      >
        edges
      </button>
      <button
        class="btn btn-view"
        :class="{ 'btn-on': shown.show.shine !== 'matt' }"
        :disabled="!plan.body || !plan.bodyOn"
        title="What the model would mirror: stripes, or a room"
        @click="shown.show.shine = SHINES[(SHINES.indexOf(shown.show.shine) + 1) % SHINES.length]"
      >
        {{ shown.show.shine }}
      </button>
      <CutBar />
      <button
        v-if="j.scan && scanLine(j.scan).coloured"
        class="btn btn-view"
        :class="{ 'btn-on': shown.show.colours }"
        :aria-pressed="shown.show.colours"
        title="The scan's own colours"
        @click="shown.show.colours = !shown.show.colours"
      >
        colours
      </button>
    </div>
    <template v-if="hand.spot?.marks && hand.marksInHand()">
      <MarkBar :cloud="isCloud(hand.scan)" />
      <svg class="pointer-events-none absolute inset-0 h-full w-full" aria-hidden="true">
        <polygon
          v-if="marking.path.value.length && marking.by.value === 'outline'"
          :points="shape(marking.path.value)"
          fill="#E79A1222"
          stroke="var(--color-saffron)"
          stroke-width="1.6"
        />
        <polyline
          v-else-if="marking.path.value.length"
          :points="shape(marking.path.value)"
          fill="none"
          stroke="var(--color-saffron)"
          stroke-opacity="0.45"
          :stroke-width="2 * marking.pixels.value"
          stroke-linecap="round"
          stroke-linejoin="round"
        />
        <circle
          v-if="marking.pointer.value && marking.by.value === 'brush'"
          :cx="marking.pointer.value[0]"
          :cy="marking.pointer.value[1]"
          :r="marking.pixels.value"
          fill="none"
          stroke="var(--color-ink)"
        />
      </svg>
    </template>
    <p v-if="hint" class="view-says bottom-4 left-[92px] right-4 mx-auto w-fit">{{ hint }}</p>
    <p v-if="proving.live" class="view-says fig bottom-4 left-[100px]" data-live>
      rms {{ mm(proving.live.rms) }}, bone ± {{ mm(proving.liveBand.band) }}, full ±
      {{ mm(proving.liveBand.reach) }}
    </p>
    <p v-if="working" class="view-says bottom-4 right-4" role="status">{{ working }}</p>
    <Tags v-if="viewer && plan.tags.length" :viewer="viewer" :tags="plan.tags" :drawn="pictures" />
    <p v-if="label" class="view-value fig" :style="{ left: `${label.x + 14}px`, top: `${label.y - 30}px` }">
      {{ label.text }}
    </p>
    <Rose :quaternion="turn" @look="look" />
  </div>
</template>
