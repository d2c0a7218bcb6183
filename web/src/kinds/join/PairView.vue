<script setup lang="ts">
/**
 * Two scans side by side: the placed ones left, the one brought right; matching places are
 * clicked in both.
 */
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import type { Matrix, Vec3 } from '../../api/types'
import { useJob } from '../../state/job'
import { partIfKnown } from '../../view3d/part'
import { besideUnder } from '../../view3d/picking'
import { css, matrix4, vector } from '../../view3d/stone'
import { Viewer } from '../../view3d/viewer'
import { useNames } from './useNames'
import { usePairing, type Side } from './usePairing'

const SIDES: Side[] = ['fixed', 'moving']
const j = useJob()
const p = usePairing()
const { nameOf, numberOf, colourOf } = useNames()
const boxes = ref<Record<Side, HTMLDivElement | null>>({ fixed: null, moving: null })
const canvases = ref<Record<Side, HTMLCanvasElement | null>>({ fixed: null, moving: null })
const scenes = shallowRef<Partial<Record<Side, Viewer>>>({})
const turned = ref(0)
const watchers: ResizeObserver[] = []

const STILL: Matrix = [
  [1, 0, 0, 0],
  [0, 1, 0, 0],
  [0, 0, 1, 0],
  [0, 0, 0, 1],
]
const shown = computed<Record<Side, string[]>>(() => ({
  fixed: p.moving && p.motions[p.moving] ? [...p.fixedShown, p.moving] : p.fixedShown,
  moving: p.moving ? [p.moving] : [],
}))
const motion = (side: Side, id: string) => (side === 'moving' ? STILL : (p.motions[id] ?? STILL))
const fitted: Record<Side, string> = { fixed: '', moving: '' }
async function show(side: Side) {
  const ids = shown.value[side]
  const list = ids.map((id) => ({
    id,
    key: j.byId.get(id)!.key!,
    colour: colourOf(id),
    matrix: motion(side, id),
  }))
  const put = (part: boolean) =>
    scenes.value[side]?.layers.beside.set(list.map((s) => ({ ...s, job: j.job!.id, part })))
  try {
    // The slab moves with the part or not; places are picked on the part alone. Until that is found out,
    // all is shown.
    if (list.some((s) => !partIfKnown(s.key))) {
      await put(false)
      if (ids !== shown.value[side]) return
      scenes.value[side]?.fit(false)
    }
    await put(true)
    if (ids !== shown.value[side]) return
    const now = ids.filter((id) => side === 'moving' || id !== p.moving).join()
    if (now !== fitted[side]) {
      fitted[side] = now
      scenes.value[side]?.fit(false)
    }
    turned.value++
  } catch (e) {
    j.error = (e as Error).message
  }
}
onMounted(() => {
  for (const side of SIDES) {
    const scene = new Viewer(canvases.value[side]!)
    scene.onTurn = () => turned.value++
    ;(canvases.value[side] as HTMLCanvasElement & { mason?: Viewer }).mason = scene
    scenes.value = { ...scenes.value, [side]: scene }
    const w = new ResizeObserver(([e]) => {
      scene.resize(e.contentRect.width, e.contentRect.height)
      turned.value++
    })
    w.observe(boxes.value[side]!)
    watchers.push(w)
    show(side)
  }
})
onBeforeUnmount(() => {
  watchers.forEach((w) => w.disconnect())
  for (const s of SIDES) scenes.value[s]?.dispose()
})
watch([() => shown.value.fixed, () => p.motions], () => show('fixed'))
watch(
  () => shown.value.moving,
  () => show('moving'),
)

const matrixOf = (side: Side, id: string) => matrix4(motion(side, id))
const marks = computed(() => {
  void turned.value
  const out: Record<Side, { x: number; y: number; text: string; i: number }[]> = { fixed: [], moving: [] }
  for (const side of SIDES) {
    const scene = scenes.value[side]
    if (!scene) continue
    const put = (scan: string, place: number[], text: string, i: number) => {
      const at = vector(place).applyMatrix4(matrixOf(side, scan))
      out[side].push({ ...scene.project(at.toArray()), text, i })
    }
    p.mine.forEach((x, k) => put(x[side], x[`${side}_place`], String(k + 1), x.i))
    const half = p.half[side]
    if (half) put(half.scan, half.place, String(p.mine.length + 1), -1)
  }
  return out
})

function spot(side: Side, x: number, y: number) {
  const v = scenes.value[side]
  const h = v && besideUnder(v, x, y)
  if (!h || (side === 'fixed' && h.id === p.moving)) return null
  const place = h.place
    .clone()
    .applyMatrix4(matrixOf(side, h.id).invert())
    .toArray()
    .map((v) => Number(v.toFixed(5))) as Vec3
  return { scan: h.id, place }
}
let down: { side: Side; x: number; y: number; moved: boolean; pan: boolean; mark: number | null } | null =
  null
function press(side: Side, e: PointerEvent) {
  canvases.value[side]!.setPointerCapture(e.pointerId)
  const mark = marks.value[side].find((m) => Math.hypot(m.x - e.offsetX, m.y - e.offsetY) < 12)
  down = {
    side,
    x: e.offsetX,
    y: e.offsetY,
    moved: false,
    pan: e.button !== 0 || e.shiftKey,
    mark: mark ? mark.i : null,
  }
}
function drag(e: PointerEvent) {
  if (!down) return
  const dx = e.offsetX - down.x,
    dy = e.offsetY - down.y
  if (!down.moved && Math.hypot(dx, dy) < 4) return
  down.moved = true
  if (down.mark !== null) {
    const at = spot(down.side, e.offsetX, e.offsetY)
    if (at && down.mark >= 0 && at.scan === p.mine.find((x) => x.i === down!.mark)?.[down.side])
      p.move(down.mark, down.side, at.place)
    else if (at && down.mark < 0) p.half[down.side] = at
    return
  }
  for (const side of p.linked && !down.pan ? SIDES : [down.side]) {
    if (down.pan) scenes.value[side]!.pan(dx, dy)
    else scenes.value[side]!.orbit(dx, dy)
  }
  turned.value++
  down.x = e.offsetX
  down.y = e.offsetY
}
function release(side: Side, e: PointerEvent) {
  const d = down
  down = null
  if (!d) return
  if (d.moved) {
    if (d.mark !== null && d.mark >= 0) p.again()
    return
  }
  if (d.pan || d.mark !== null) return
  const at = spot(side, e.offsetX, e.offsetY)
  if (at) p.put(side, at)
}
function wheel(side: Side, e: WheelEvent) {
  scenes.value[side]!.zoom(
    Math.exp(Math.sign(e.deltaY) * Math.min(Math.abs(e.deltaY), 120) * 0.0016),
    e.offsetX,
    e.offsetY,
  )
  turned.value++
}
const says = computed(() =>
  p.half.fixed
    ? 'Now the same place on the right'
    : p.half.moving
      ? 'Now the same place on the left'
      : p.mine.length < 3
        ? `Click a place on either side; ${3 - p.mine.length} more ${p.mine.length === 2 ? 'pair' : 'pairs'}`
        : 'Each further pair improves it; drag a bad one, or drop it',
)
</script>

<template>
  <div class="relative flex min-w-0 flex-1 bg-ground" aria-label="Scans side by side">
    <div
      v-for="side in SIDES"
      :key="side"
      :ref="(e) => (boxes[side] = e as HTMLDivElement)"
      class="relative min-w-0 flex-1 overflow-hidden"
      :class="{ 'border-l border-rule': side === 'moving' }"
    >
      <canvas
        :ref="(e) => (canvases[side] = e as HTMLCanvasElement)"
        class="absolute inset-0 h-full w-full touch-none outline-none"
        style="cursor: crosshair"
        tabindex="0"
        :aria-label="side === 'fixed' ? 'Placed scans' : 'Scan to bring'"
        @pointerdown="press(side, $event)"
        @pointermove="drag"
        @pointerup="release(side, $event)"
        @wheel.prevent="wheel(side, $event)"
        @contextmenu.prevent
      />
      <p
        class="pointer-events-none absolute left-3 top-3 border-l-[5px] bg-sheet px-2 py-1"
        :style="{ borderColor: shown[side][0] ? css(colourOf(shown[side][0])) : undefined }"
      >
        <b class="font-semibold">{{ side === 'fixed' ? 'Placed' : 'To bring' }}</b>
        {{
          side === 'fixed'
            ? p.fixedShown.map((id) => `${numberOf(id)} ${nameOf(id)}`).join(', ')
            : p.moving
              ? `${numberOf(p.moving)} ${nameOf(p.moving)}`
              : 'none left'
        }}
      </p>
      <svg class="pointer-events-none absolute inset-0 h-full w-full" aria-hidden="true">
        <g v-for="m in marks[side]" :key="m.i">
          <circle
            :cx="m.x"
            :cy="m.y"
            r="10"
            fill="var(--color-saffron)"
            stroke="var(--color-ink)"
            :stroke-dasharray="m.i < 0 ? '3 2' : undefined"
          />
          <text :x="m.x" :y="m.y + 4" text-anchor="middle" font-size="11" fill="var(--color-ink)">
            {{ m.text }}
          </text>
        </g>
      </svg>
    </div>
    <p class="view-says bottom-4 left-1/2 -translate-x-1/2" role="status">
      {{ says }}
    </p>
  </div>
</template>
