<script setup lang="ts">
/**
 * What the device sees and what was captured, without perspective: the camera's picture below, points as they
 * come, and what was touched and drawn above it. The pointer touches, draws, cuts and sweeps in it.
 */
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useCapture, type Picture } from './capture'
import {
  cross,
  dot,
  drawn,
  lookFrom,
  placeAt,
  plus,
  ruleOf,
  SIDES,
  turned,
  unit,
  type Camera,
  type Vec,
} from './camera'
import { pictured, seenIn } from './picture'
import { Splat, type Colours } from './splat'

const cap = useCapture()
const box = ref<HTMLDivElement | null>(null)
const canvas = ref<HTMLCanvasElement | null>(null)
const size = ref({ wide: 100, high: 100 })
const camera = computed({ get: () => cap.camera, set: (c: Camera) => (cap.camera = c) })
const picture = shallowRef<Picture | null>(null)
const path = ref<{ x: number; y: number }[]>([])
const bounds = computed(() => cap.view?.bounds ?? null)
const reachOf = (b: number[][]) => Math.hypot(b[1][0] - b[0][0], b[1][1] - b[0][1], b[1][2] - b[0][2]) || 1
const far = computed(() => (bounds.value ? reachOf(bounds.value) : 100))
const draws = computed(
  () =>
    cap.doing === 'cut' ||
    (cap.doing === 'scan' && cap.can('line')) ||
    (cap.doing === 'touch' && cap.led !== 'in'),
)
const levelled = computed(
  () =>
    cap.view?.level
      ?.flat()
      .map((v) => v.toFixed(4))
      .join() ?? '',
)

function fit(toward: Vec, up: Vec) {
  const b = bounds.value
  if (!b) return
  fitting = true
  const middle = [0, 1, 2].map((k) => (b[0][k] + b[1][k]) / 2) as Vec
  const c = lookFrom(toward, up, middle, 1)
  let [x, y] = [1e-9, 1e-9]
  for (let k = 0; k < 8; k++) {
    const at = drawn(c, [b[k & 1][0], b[(k >> 1) & 1][1], b[k >> 2][2]], 0, 0)
    x = Math.max(x, Math.abs(at.x))
    y = Math.max(y, Math.abs(at.y))
  }
  camera.value = { ...c, scale: 0.44 * Math.min(size.value.wide / x, size.value.high / y) }
}
// A part that is met, or stands on its level from now on, is looked at from above.
watch([() => !!bounds.value, levelled], () => {
  picture.value = null // it lies in the coordinates there were before
  if (bounds.value) fit([0, 0, 1], [0, 1, 0])
})

/** As large as what the camera sees of the part allows. */
function fitTo(p: Picture) {
  const b = seenIn(p)
  if (!b || !fitting) return
  fitting = false
  const c = camera.value
  const middle = plus(plus(p.middle as Vec, c.right, b.right), c.up, b.up)
  camera.value = {
    ...c,
    middle,
    scale: 0.78 * Math.min(size.value.wide / b.wide, size.value.high / b.high),
  }
}
let asked = 0
let fitting = false
const stands = (p: Picture, c: Camera) => dot(p.right, c.right) > 0.99999 && dot(p.up, c.up) > 0.99999
/** The camera's picture is asked for once the look stands still. */
function askPicture() {
  window.clearTimeout(asked)
  if (!cap.connected || !cap.view?.device.tools.includes('camera')) return void (picture.value = null)
  if (picture.value && stands(picture.value, camera.value)) return fitTo(picture.value)
  asked = window.setTimeout(async () => {
    if (cap.busy || cap.waiting) return askPicture()
    picture.value = await cap.look(camera.value.toward, camera.value.up).catch(() => null)
    if (picture.value) fitTo(picture.value)
  }, 250)
}
watch([camera, () => cap.connected, levelled], askPicture)
const colour = (name: string) => {
  const text = getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim()
  const hex = text.length === 4 ? [...text.slice(1)].map((c) => c + c).join('') : text.slice(1)
  return [0, 2, 4].map((k) => parseInt(hex.slice(k, k + 2), 16))
}
let frame = 0
function paint() {
  window.cancelAnimationFrame(frame)
  frame = window.requestAnimationFrame(() => {
    const c = canvas.value
    const g = c?.getContext('2d')
    if (!c || !g) return
    const { wide, high } = size.value
    if (c.width !== wide || c.height !== high) Object.assign(c, { width: wide, height: high })
    const image = g.createImageData(wide, high)
    const p = cap.points
    const fresh = performance.now() - p.since < 1500 ? p.fresh : p.count
    const colours: Colours = {
      near: colour('inkblue'),
      far: colour('slate'),
      fresh: colour('saffron'),
      image: colour('sand'),
    }
    const splat = new Splat(image, camera.value, far.value / 2)
    splat.points(p.flat, p.count, fresh, colours)
    if (cap.view?.mirror) splat.points(p.flat, p.count, p.count, colours, cap.view.mirror)
    g.putImageData(image, 0, 0)
    if (picture.value && stands(picture.value, camera.value)) {
      const q = picture.value
      const at = drawn(camera.value, q.middle, wide, high)
      const [w, h] = [q.wide * q.pixel * camera.value.scale, q.high * q.pixel * camera.value.scale]
      g.globalCompositeOperation = 'destination-over'
      g.globalAlpha = 0.85
      g.drawImage(pictured(q), at.x - w / 2, at.y - h / 2, w, h)
      g.globalAlpha = 1
      g.globalCompositeOperation = 'source-over'
    }
    if (p.fresh < p.count && fresh < p.count) window.setTimeout(paint, 1600)
  })
}
watch([camera, picture, size, () => cap.come, () => cap.view?.mirror], paint)

let watcher: ResizeObserver | null = null
onMounted(() => {
  watcher = new ResizeObserver(([e]) => {
    size.value = { wide: Math.round(e.contentRect.width), high: Math.round(e.contentRect.height) }
    if (bounds.value) fit(camera.value.toward, camera.value.up)
  })
  watcher.observe(box.value!)
  ;(canvas.value as HTMLCanvasElement & { mason?: unknown }).mason = {
    spot: (p: Vec) => drawn(camera.value, p, size.value.wide, size.value.high),
    still: () => !fitting && !!picture.value && stands(picture.value, camera.value),
  }
})
onBeforeUnmount(() => {
  cap.close() // nobody looks: nothing is asked for
  watcher?.disconnect()
  window.clearTimeout(asked)
  window.cancelAnimationFrame(frame)
})

// What lies above the points.
const at = (p: number[]) => drawn(camera.value, p, size.value.wide, size.value.high)
const along = (places: number[][], closed: boolean) =>
  places.map((p, k) => `${k ? 'L' : 'M'}${at(p).x.toFixed(1)} ${at(p).y.toFixed(1)}`).join('') +
  (closed ? 'Z' : '')
const things = computed(() =>
  (cap.view?.things ?? []).map((t) => ({
    ...t,
    paths: t.lines.map((l) => along(l.places, l.closed)),
    gaps: (facing(t.toward) ? t.unseen : []).map((p) => {
      const s = at(p)
      const half = 0.32 * t.cell * camera.value.scale
      return `M${(s.x - half).toFixed(1)} ${(s.y - half).toFixed(1)}l${2 * half} ${2 * half}`
    }),
  })),
)
const facing = (toward?: number[] | null) => !!toward && Math.abs(dot(toward, camera.value.toward)) > 0.5
/** Names beside what they are of, none over another. */
const tags = computed(() => {
  const out: { x: number; y: number; name: string; what: string }[] = []
  for (const t of cap.view?.things ?? []) {
    const places = t.lines[0]?.places
    if (!places?.length || t.what === 'level') continue
    const { x, y } = at(places[t.what === 'cut' ? places.length - 1 : 0])
    const tag = { x: x + 6, y: y - 6, name: t.name, what: t.what }
    while (out.some((o) => Math.abs(o.y - tag.y) < 13 && Math.abs(o.x - tag.x) < 75)) tag.y += 13
    out.push(tag)
  }
  return out
})
/** The planes that a line being dragged would give, as they are seen. */
const planned = computed(() => {
  const [a, b] = [path.value[0], path.value[path.value.length - 1]]
  if (cap.doing !== 'cut' || path.value.length < 2) return []
  const long = Math.hypot(b.x - a.x, b.y - a.y) || 1
  const step = (cap.apart * camera.value.scale) / long
  return Array.from({ length: cap.cuts - 1 }, (_, k) => {
    const [dx, dy] = [(k + 1) * step * (b.y - a.y), -(k + 1) * step * (b.x - a.x)]
    return `M${a.x + dx} ${a.y + dy}L${b.x + dx} ${b.y + dy}`
  })
})
const rule = computed(() => ruleOf(camera.value.scale))
const STROKE: Record<string, string> = {
  boundary: 'var(--color-rust)',
  cut: 'var(--color-saffron)',
  curve: 'var(--color-plum)',
}
const strokeOf = (what: string) => STROKE[what] ?? 'var(--color-plum)'

// What the pointer does.
type Down = { x: number; y: number; turns: boolean; pans: boolean; moved: boolean; camera: Camera }
let down: Down | null = null
const place = (x: number, y: number, near: number) =>
  placeAt(camera.value, x, y, size.value.wide, size.value.high, near)
const before = (x: number, y: number) => place(x, y, 0.75 * far.value)
const into = (): Vec => camera.value.toward.map((v) => -v) as Vec
function press(e: PointerEvent) {
  canvas.value!.setPointerCapture(e.pointerId)
  const other = e.button !== 0
  const turns = other || !draws.value
  down = {
    x: e.offsetX,
    y: e.offsetY,
    turns,
    pans: e.shiftKey || e.button === 1,
    moved: false,
    camera: camera.value,
  }
  path.value = turns ? [] : [{ x: e.offsetX, y: e.offsetY }]
}
function move(e: PointerEvent) {
  if (!down) return
  const [dx, dy] = [e.offsetX - down.x, e.offsetY - down.y]
  if (!down.moved && Math.hypot(dx, dy) < 4) return
  down.moved = true
  if (!down.turns) {
    const here = { x: e.offsetX, y: e.offsetY }
    path.value = cap.doing === 'scan' ? [...path.value, here] : [path.value[0], here]
  } else if (down.pans) {
    const c = down.camera
    const m = plus(plus(c.middle, c.right, -dx / c.scale), c.up, dy / c.scale)
    camera.value = { ...c, middle: m }
  } else camera.value = turned(down.camera, 0.008 * dx, 0.008 * dy)
}
async function release(e: PointerEvent) {
  const d = down
  down = null
  const line = path.value
  path.value = []
  if (!d) return
  const [x, y] = [e.offsetX, e.offsetY]
  if (d.turns && (d.moved || e.button !== 0)) return
  if (cap.doing === 'boundary') {
    if (!cap.touchCorners) cap.corners = [...cap.corners, place(x, y, 0)]
    else if (await cap.touch(before(x, y), into())) {
      const last = cap.view?.touches[cap.view.touches.length - 1]
      if (last && !cap.view?.says) cap.corners = [...cap.corners, last as Vec]
    }
  } else if (cap.doing === 'touch' && cap.led === 'in') await touchIn(x, y)
  else if (d.moved && line.length > 1) await drag(line, x, y)
}
async function touchIn(x: number, y: number) {
  if (!(await cap.touch(before(x, y), into()))) return
  const last = cap.view?.touches[cap.view.touches.length - 1]
  if (last)
    cap.height = Number((dot(last, camera.value.toward) - 2 * (cap.view?.device.ball ?? 0)).toFixed(2))
}
async function drag(line: { x: number; y: number }[], x: number, y: number) {
  const first = line[0]
  if (cap.doing === 'scan') {
    const step = Math.max(Math.floor(line.length / 60), 1)
    const picked = line.filter((_, k) => k % step === 0 || k === line.length - 1)
    await cap.sweep(
      picked.map((p) => before(p.x, p.y)),
      into(),
      null,
    )
  } else if (cap.doing === 'cut') {
    const [a, b] = [place(first.x, first.y, 0), place(x, y, 0)]
    const normal = unit(cross(camera.value.toward, unit(plus(b, a, -1))))
    for (let k = 0; k < cap.cuts; k++) {
      const point = plus(a, normal, k * cap.apart)
      if (!(await cap.put({ what: 'cut', point, normal, reach: cap.reach }))) return
    }
  } else if (cap.led === 'row') await cap.touch(before(first.x, first.y), into(), before(x, y), cap.row)
  else {
    const near = (cap.height ?? 0) - dot(camera.value.middle, camera.value.toward)
    const begin = place(first.x, first.y, near)
    await cap.touch(begin, unit(plus(place(x, y, near), begin, -1)))
  }
}
function zoom(e: WheelEvent) {
  const c = camera.value
  const k = Math.exp(-0.0015 * e.deltaY)
  const under = place(e.offsetX, e.offsetY, 0)
  const middle = plus(under, plus(c.middle, under, -1), 1 / k)
  camera.value = { ...c, scale: c.scale * k, middle }
}
</script>

<template>
  <div ref="box" class="relative min-w-0 flex-1 overflow-hidden bg-ground" data-capture>
    <canvas
      ref="canvas"
      class="absolute inset-0 touch-none"
      :class="draws || cap.doing === 'boundary' || cap.doing === 'touch' ? 'cursor-crosshair' : 'cursor-grab'"
      tabindex="0"
      role="img"
      :aria-label="`The capture: ${cap.view?.kept ?? 0} points`"
      @pointerdown="press"
      @pointermove="move"
      @pointerup="release"
      @pointercancel="down = null"
      @wheel.prevent="zoom"
      @contextmenu.prevent
    />
    <svg class="pointer-events-none absolute inset-0 h-full w-full" aria-hidden="true">
      <g v-for="t in things" :key="t.id" fill="none" :stroke="strokeOf(t.what)">
        <path v-for="(g, k) in t.gaps" :key="`g${k}`" :d="g" stroke-width="1.2" opacity="0.8" />
        <path
          v-for="(p, k) in t.paths"
          :key="k"
          :d="p"
          :stroke-width="t.what === 'cut' ? 2.2 : 1.6"
          :stroke-dasharray="t.what === 'boundary' ? '7 4' : ''"
        />
      </g>
      <text
        v-for="(t, k) in tags"
        :key="`n${k}`"
        :x="t.x"
        :y="t.y"
        class="capture-tag"
        :fill="strokeOf(t.what)"
      >
        {{ t.name }}
      </text>
      <g fill="none" stroke="var(--color-saffron)" stroke-width="2">
        <path v-for="(p, k) in planned" :key="`p${k}`" :d="p" />
        <circle v-for="(p, k) in cap.view?.touches ?? []" :key="k" :cx="at(p).x" :cy="at(p).y" r="5" />
        <path v-if="cap.corners.length" :d="along(cap.corners, false)" stroke-dasharray="7 4" />
        <circle
          v-for="(p, k) in cap.corners"
          :key="`c${k}`"
          :cx="at(p).x"
          :cy="at(p).y"
          r="3.5"
          fill="var(--color-saffron)"
        />
        <path
          v-if="path.length > 1"
          :d="path.map((p, k) => `${k ? 'L' : 'M'}${p.x} ${p.y}`).join('')"
          :stroke-width="cap.doing === 'scan' ? Math.max(cap.width * camera.scale, 2) : 2"
          :opacity="cap.doing === 'scan' ? 0.35 : 1"
        />
      </g>
    </svg>
    <div v-if="bounds" class="absolute bottom-3 right-3 flex gap-1" role="group" aria-label="Look from">
      <button
        v-for="s in SIDES"
        :key="s.name"
        class="btn btn-view"
        :class="{ 'font-semibold': dot(s.toward, camera.toward) > 0.99999 }"
        @click="fit(s.toward, s.up)"
      >
        {{ s.name }}
      </button>
    </div>
    <div v-if="bounds" class="absolute bottom-3 left-3 text-soft">
      <div class="border-b-2 border-soft" :style="{ width: `${rule.pixels}px` }" />
      <span class="fig">{{ rule.mm }} mm</span>
    </div>
    <p v-if="!bounds" class="absolute inset-0 grid place-items-center text-center text-soft">
      <span class="max-w-sm">
        Connect a device: its picture and what it captures are drawn here. Nothing that it sends is lost,
        whatever happens to the line.
      </span>
    </p>
    <p
      v-if="cap.view?.says"
      class="note absolute left-1/2 top-3 max-w-[60%] -translate-x-1/2"
      role="status"
      data-capture-says
    >
      {{ cap.view.says }}
    </p>
  </div>
</template>
