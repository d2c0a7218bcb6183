<script setup lang="ts">
/** The view: shows the job's scan and body in its frame, turns mouse work into looking and picking. */
import { ChevronLeft, ChevronRight } from 'lucide-vue-next'
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { geometry, type Buffers, type Edges } from '../api/client'
import { signed } from '../state/format'
import { useJob } from '../state/job'
import Rose from './Rose.vue'
import { Scene } from './scene'

const j = useJob()
const box = ref<HTMLDivElement | null>(null)
const canvas = ref<HTMLCanvasElement | null>(null)
const turn = shallowRef(new THREE.Quaternion())
const history = ref({ back: false, forward: false })
const label = ref<{ x: number; y: number; text: string } | null>(null)
const loading = ref('')
let scene: Scene | null = null
let watcher: ResizeObserver | null = null
let deviation: Buffers | null = null
const traces = defineProps<{ cut?: { origin: number[]; normal: number[]; loops: number[][][] } | null }>()

const scanKey = computed(() => j.proof?.scan_key ?? j.scan?.key ?? null)
const bodyKey = computed(() => {
  if (j.proof) return j.proof.body_key
  if (j.preview?.key && j.hand && ['extrude'].includes(j.hand.kind) && j.preview.status !== 'failed' && !j.handError) return j.preview.key
  if (j.hand?.kind === 'fillet') return j.preview?.key && j.preview.status !== 'failed' && !j.handError ? j.preview.key : (j.byId.get(j.hand.record.body)?.key ?? null)
  return j.body?.key ?? null
})
const matrix = computed(() => {
  if (j.proof) return j.proof.matrix
  if (j.hand?.kind === 'frame' && j.preview?.summary?.matrix) return j.preview.summary.matrix as number[][]
  return j.matrix
})
const tide = computed(() => {
  if (!j.show.tide) return null
  if (j.proof) return { key: j.proof.key, scan: j.proof.scan_key, reach: histogramReach(j.proof.summary) }
  return j.check?.key && j.scan?.key ? { key: j.check.key, scan: j.scan.key, reach: histogramReach(j.check.summary) } : null
})
const histogramReach = (s: any) => s.histogram?.edges?.at(-1) ?? 0.3

onMounted(() => {
  scene = new Scene(canvas.value!)
  scene.onTurn = (q) => (turn.value = q.clone())
  scene.onHistory = (back, forward) => (history.value = { back, forward })
  turn.value = scene.camera.quaternion.clone()
  watcher = new ResizeObserver(([e]) => scene!.resize(e.contentRect.width, e.contentRect.height))
  watcher.observe(box.value!)
  ;(canvas.value as any).mason = scene
})
onBeforeUnmount(() => {
  watcher?.disconnect()
  scene?.dispose()
})

let firstScan = true
watch(scanKey, async (key) => {
  if (!key || !j.job) return scene?.setScan(null, null)
  loading.value = 'Fetching the scan'
  try {
    const b = await geometry(j.job.id, key, 'scan')
    if (scanKey.value !== key) return
    scene!.setScan(b, matrix.value)
    shown()
    if (firstScan) scene!.fit(false)
    firstScan = false
    scene!.setLit(j.lit)
    await colour()
  } catch (e) {
    j.error = (e as Error).message
  } finally {
    loading.value = ''
  }
}, { immediate: true, flush: 'post' })
watch(bodyKey, async (key) => {
  if (!key || !j.job) { scene?.setBody(null); return }
  try {
    const b = await geometry(j.job.id, key, 'body')
    if (bodyKey.value !== key) return
    scene!.setBody(b)
    shown()
  } catch (e) {
    j.error = (e as Error).message
  }
}, { immediate: true, flush: 'post' })
watch(matrix, (m, old) => {
  scene?.setMatrix(m)
  if (JSON.stringify(m) !== JSON.stringify(old)) scene?.fit(false)
}, { flush: 'post' })

async function colour() {
  const t = tide.value
  if (!t || !j.job) { deviation = null; return scene?.setTide(null, 0, 1) }
  const b = await geometry(j.job.id, t.key, 'deviation', t.scan)
  if (tide.value?.key !== t.key) return
  deviation = b
  scene?.setTide(b.arrays.distance as Float32Array, j.tolerance, t.reach)
}
watch([tide, () => j.tolerance], () => colour().catch((e) => (j.error = e.message)), { flush: 'post' })
watch(() => j.lit, (l) => scene?.setLit(l), { flush: 'post' })

function shown() {
  const scanOn = j.show.tide || (j.show.scan && (!j.scan || j.visible(j.scan.id)))
  const bodyOn = !j.show.tide && j.show.model && (!j.body || j.visible(j.body.id))
  scene?.setShown(scanOn, bodyOn, bodyOn && scanOn && j.slot !== 'edges' && !!j.hand && j.hand.kind !== 'check')
}
watch([() => ({ ...j.show }), () => [...j.hidden], () => j.alone, () => j.hand, () => j.slot], shown, { flush: 'post' })

// Datums in sight: those chosen on the wall, and what the frame in hand rests on.
const marks = computed(() => {
  const out: Parameters<Scene['setExtras']>[0] = []
  const m = matrix.value
  const move = new THREE.Matrix4()
  if (m) move.set(...(m.flat() as Parameters<THREE.Matrix4['set']>))
  const ids = new Set<string>()
  if (j.hand?.kind === 'frame') for (const k of ['first', 'second', 'origin']) if (j.hand.record[k]) ids.add(j.hand.record[k])
  if (j.chosenStone) ids.add(j.chosenStone)
  for (const id of ids) {
    const s = j.byId.get(id)?.summary as any
    if (!s?.parameters) continue
    const p = new THREE.Vector3(...(s.parameters.point as [number, number, number])).applyMatrix4(move)
    const d = new THREE.Vector3(...((s.parameters.normal ?? s.parameters.direction) as [number, number, number])).transformDirection(move)
    if (s.element === 'plane') out.push({ plane: { origin: p.toArray(), normal: d.toArray(), size: Math.max(20, Math.sqrt(s.area) * 1.25), colour: 'plum' } })
    else out.push({ axis: { point: p.toArray(), direction: d.toArray(), length: Math.max(25, s.length * 1.6) } })
  }
  const c = traces.cut
  if (c) {
    const size = 1.1 * Math.hypot(...((j.scan?.summary as any)?.bounds?.[1] ?? [60, 60, 0]).map((v: number, k: number) => v - ((j.scan?.summary as any)?.bounds?.[0]?.[k] ?? 0)))
    out.push({ plane: { origin: c.origin, normal: c.normal, size }, lines: c.loops.map((points) => ({ points, closed: true, colour: 'inkblue' })) })
  }
  if (j.hand?.kind === 'fillet' && edges.value.length) out.push({ lines: edges.value.map((points) => ({ points, closed: false, colour: 'saffron' })) })
  return out
})
watch(marks, (m) => scene?.setExtras(m), { flush: 'post' })

const edges = ref<number[][][]>([])
watch(() => [j.hand?.kind, JSON.stringify(j.hand?.record.edges ?? null)], async () => {
  edges.value = []
  if (j.hand?.kind !== 'fillet' || !j.job) return
  const key = j.byId.get(j.hand.record.body)?.key
  if (!key) return
  const b = await geometry(j.job.id, key, 'body')
  const names = (b.header.edge_names as [string, string, number][]).map((n) => n.join('|'))
  const starts = b.arrays.edge_starts, pts = b.arrays.edge_points, o = b.header.origin as number[]
  edges.value = (j.hand?.record.edges ?? []).map((n: any[]) => {
    const i = names.indexOf(n.join('|'))
    if (i < 0) return []
    const line: number[][] = []
    for (let k = starts[i]; k < starts[i + 1]; k++) line.push([pts[3 * k] + o[0], pts[3 * k + 1] + o[1], pts[3 * k + 2] + o[2]])
    return line
  })
})

// Hands.
let down: { x: number; y: number; button: number; moved: boolean; pan: boolean } | null = null
function press(e: PointerEvent) {
  canvas.value!.setPointerCapture(e.pointerId)
  canvas.value!.focus()
  down = { x: e.offsetX, y: e.offsetY, button: e.button, moved: false, pan: e.button === 2 || e.button === 1 || e.shiftKey }
}
function drag(e: PointerEvent) {
  if (!down) return hover(e)
  const dx = e.offsetX - down.x, dy = e.offsetY - down.y
  if (!down.moved && Math.hypot(dx, dy) < 4) return
  if (!down.moved) scene!.remember()
  down.moved = true
  label.value = null
  if (down.pan) scene!.pan(dx, dy)
  else scene!.orbit(dx, dy)
  down.x = e.offsetX
  down.y = e.offsetY
}
function release(e: PointerEvent) {
  if (down && !down.moved && down.button === 0) click(e.offsetX, e.offsetY)
  down = null
}
let lastWheel = 0
function wheel(e: WheelEvent) {
  if (Date.now() - lastWheel > 600) scene!.remember()
  lastWheel = Date.now()
  scene!.zoom(Math.exp(Math.sign(e.deltaY) * Math.min(Math.abs(e.deltaY), 120) * 0.0016), e.offsetX, e.offsetY)
}

async function click(x: number, y: number) {
  if (!j.hand || !j.slot || !scene) return
  if (j.slot === 'edges') {
    const h = scene.hit(x, y, ['body'])
    if (!h) return
    try {
      const got = await j.ask<Edges>('/edges', { body: j.hand.record.body, place: h.place.toArray() })
      const wanted = j.hand.record.alike === false ? [got.edge] : got.alike
      const have: any[][] = j.hand.record.edges
      const names = new Set(have.map((n) => n.join('|')))
      const all = wanted.every((n) => names.has(n.join('|')))
      j.hand.record.edges = all ? have.filter((n) => !wanted.some((w) => w.join('|') === n.join('|'))) : [...have, ...wanted.filter((n) => !names.has(n.join('|')))]
    } catch (e) {
      j.handError = (e as Error).message
    }
    return
  }
  const h = scene.hit(x, y, ['scan'])
  if (!h) return
  const inverse = new THREE.Matrix4()
  if (matrix.value) inverse.set(...(matrix.value.flat() as Parameters<THREE.Matrix4['set']>)).invert()
  const place = h.place.clone().applyMatrix4(inverse).toArray() as [number, number, number]
  const normal = h.normal.clone().transformDirection(inverse).toArray() as [number, number, number]
  emit('picked', { slot: j.slot, place, normal })
}
const emit = defineEmits<{ picked: [at: { slot: string; place: [number, number, number]; normal: [number, number, number] }] }>()

function hover(e: PointerEvent) {
  if (!deviation || !j.show.tide || !scene) { label.value = null; return }
  const h = scene.hit(e.offsetX, e.offsetY, ['scan'])
  if (!h) { label.value = null; return }
  const mesh = (scene as any).scan as THREE.Mesh
  const index = mesh.geometry.getIndex()!, pos = mesh.geometry.getAttribute('position')
  const local = mesh.worldToLocal(h.place.clone())
  let best = -1, d = Infinity
  for (let k = 0; k < 3; k++) {
    const v = index.getX(3 * h.face + k)
    const gap = local.distanceToSquared(new THREE.Vector3().fromBufferAttribute(pos as THREE.BufferAttribute, v))
    if (gap < d) { d = gap; best = v }
  }
  const value = (deviation.arrays.distance as Float32Array)[best]
  const face = (deviation.arrays.face as Int32Array)[best]
  const text = Number.isFinite(value) ? `${signed(value)} ${deviation.header.names[face] ?? ''}` : 'no answer'
  label.value = { x: e.offsetX, y: e.offsetY, text }
}
function look(from: [number, number, number]) {
  scene?.lookAlong(new THREE.Vector3(...from))
  scene?.fit(false)
}
defineExpose({ back: () => scene?.back(), forward: () => scene?.forward(), fit: () => scene?.fit() })
</script>

<template>
  <div ref="box" class="relative min-w-0 flex-1 overflow-hidden bg-ground" aria-label="View" role="region">
    <canvas
      ref="canvas" class="absolute inset-0 h-full w-full touch-none outline-none" tabindex="0" aria-label="3D view of scan and model"
      :style="{ cursor: j.slot ? 'crosshair' : 'default' }"
      @pointerdown="press" @pointermove="drag" @pointerup="release" @pointerleave="label = null" @wheel.prevent="wheel" @contextmenu.prevent
    />
    <div class="absolute left-3.5 top-3 flex gap-1.5">
      <button class="btn !bg-sheet !px-1.5" :disabled="!history.back" aria-label="View back" title="View back  ," @click="scene?.back()"><ChevronLeft :size="15" /></button>
      <button class="btn !bg-sheet !px-1.5" :disabled="!history.forward" aria-label="View forward" title="View forward  ." @click="scene?.forward()"><ChevronRight :size="15" /></button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.scan }" :aria-pressed="j.show.scan" title="Scan and model swap with Space" @click="j.show.scan = !j.show.scan">scan</button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.model }" :aria-pressed="j.show.model" :disabled="!bodyKey" title="Scan and model swap with Space" @click="j.show.model = !j.show.model">model</button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.tide }" :aria-pressed="j.show.tide" :disabled="!j.check && !j.proof" title="Deviation colours  D" @click="j.show.tide = !j.show.tide">tide</button>
    </div>
    <p v-if="j.slot && j.hand" class="absolute left-1/2 top-3 -translate-x-1/2 border-l-[3px] border-saffron bg-sheet px-2.5 py-1.5 text-[12.5px]">
      {{ j.slot === 'edges' ? 'Click near an edge of the model' : j.slot === 'place' ? 'Click the surface on the scan' : `Click the face where it ${j.slot === 'start' ? 'begins' : 'ends'}` }}
    </p>
    <p v-if="loading || j.running.length" class="absolute bottom-4 right-4 border-l-[3px] border-saffron bg-sheet px-2.5 py-1.5 text-[12.5px]" role="status">
      {{ loading || `${j.running[0].message || j.running[0].label} ${Math.round(j.running[0].progress * 100)} %` }}
    </p>
    <p v-if="label" class="fig pointer-events-none absolute border border-rule border-l-[3px] border-l-saffron bg-sheet px-2 py-1" :style="{ left: `${label.x + 14}px`, top: `${label.y - 30}px` }">{{ label.text }}</p>
    <Rose :quaternion="turn" @look="look" />
  </div>
</template>
