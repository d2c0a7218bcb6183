<script setup lang="ts">
/** The view: shows the job's scan and body in its frame, turns mouse work into looking and picking. */
import { ChevronLeft, ChevronRight } from 'lucide-vue-next'
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { geometry, type Buffers, type Edges } from '../api/client'
import { signed } from '../state/format'
import { useJob } from '../state/job'
import { MARK_SAYS, useMarks } from '../state/marks'
import MarkBar from './MarkBar.vue'
import { partOf } from './part'
import Rose from './Rose.vue'
import { Scene, STONES } from './scene'

const j = useJob()
const m = useMarks()
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

const laidPreview = computed(() => (j.cleaning && j.preview?.key && j.preview.status !== 'failed' && !j.handError ? j.preview : null))
/** A cleaning step shows what it would give, unless what would go is to be seen first. */
const SHOWS_BEFORE = ['background', 'noise', 'curvecut']
const joinMesh = computed(() => {
  if (j.hand?.kind === 'merge') return j.preview?.key && j.preview.status !== 'failed' && j.show.joined !== 'scans' ? j.preview.key : null
  return !j.hand && j.merged && j.show.joined !== 'scans' ? j.merged.key : null
})
/** Scans being joined: where each is, those without a place set beside the rest. */
const joined = computed(() => {
  if (!j.joining || joinMesh.value || j.proof) return null
  const motions = (j.placement?.summary?.motions ?? {}) as Record<string, number[][]>
  const list = j.joinScans.filter((s) => j.visible(s.id))
  const placed = list.filter((s) => motions[s.id]), rest = list.filter((s) => !motions[s.id])
  const size = (s: (typeof list)[number]) => { const [a, b] = (s.summary as any).bounds as number[][]; return { middle: a.map((v, k) => (v + b[k]) / 2), radius: 0.5 * Math.hypot(...a.map((v, k) => b[k] - v)) } }
  const out = placed.map((s) => ({ s, matrix: times(matrix.value, motions[s.id]) as number[][] | null }))
  const columns = Math.ceil(Math.sqrt(rest.length * 1.5))
  const pitch = 1.7 * Math.max(1, ...rest.map((s) => size(s).radius))
  const right = placed.length ? 1.2 * pitch : 0
  rest.forEach((s, i) => {
    const { middle } = size(s)
    const to = [(i % columns) * pitch + right, 0, -Math.floor(i / columns) * pitch]
    out.push({ s, matrix: [0, 1, 2].map((r) => [...[0, 1, 2].map((c) => (r === c ? 1 : 0)), to[r] - middle[r]]).concat([[0, 0, 0, 1]]) })
  })
  return out
})
function times(a: number[][] | null, b: number[][]) {
  return a ? a.map((row) => b[0].map((_, c) => row.reduce((t, v, k) => t + v * b[k][c], 0))) : b
}
const scanKey = computed(() => {
  if (j.proof) return j.proof.scan_key
  if (joinMesh.value && j.joining) return joinMesh.value
  if (joined.value) return joined.value[0]?.s.key ?? null
  if (j.hand && j.handScan) {
    if (laidPreview.value && j.show.after && !SHOWS_BEFORE.includes(j.hand.kind)) return laidPreview.value.key
    return j.handScan.key
  }
  return j.scan?.key ?? null
})
const colourOf = (root: string) => STONES[Math.max(0, j.allStones.filter((s) => s.kind === 'scan' || s.kind === 'combine').findIndex((s) => s.id === root)) % STONES.length]
const mainRoot = computed(() => (joined.value ? joined.value[0]?.s.id ?? '' : j.root(j.handScan?.id ?? j.scan?.id ?? '')))
const others = computed(() => (joined.value ? joined.value.slice(1).map((x) => x.s) : j.proof || j.hand || j.joining ? [] : j.tips.filter((t) => j.root(t.id) !== mainRoot.value && j.visible(t.id))))
const bodyKey = computed(() => {
  if (j.proof) return j.proof.body_key
  if (j.preview?.key && j.hand && ['extrude'].includes(j.hand.kind) && j.preview.status !== 'failed' && !j.handError) return j.preview.key
  if (j.hand?.kind === 'fillet') return j.preview?.key && j.preview.status !== 'failed' && !j.handError ? j.preview.key : (j.byId.get(j.hand.record.body)?.key ?? null)
  return j.body?.key ?? null
})
/** A scan as a placement has it: the slab and scraps that it set aside are not shown. */
const seenOf = (id: string, key: string) => (joined.value && j.placement?.summary.aside?.[id] ? partOf(j.job!.id, key) : geometry(j.job!.id, key, 'scan'))
const placedMatrix = (id: string) => joined.value?.find((x) => x.s.id === id)?.matrix ?? matrix.value
const matrix = computed(() => {
  if (j.proof) return j.proof.matrix
  if (j.hand?.kind === 'frame' && j.preview?.summary?.matrix) return j.preview.summary.matrix as number[][]
  return j.matrix
})
const tide = computed(() => {
  if (j.joining && joinMesh.value && j.show.joined === 'apart') return { key: joinMesh.value, scan: joinMesh.value, reach: 0.3, moved: true, name: 'apart' }
  if (j.cleaning) return j.show.moved && laidPreview.value && j.show.after ? { key: laidPreview.value.key!, scan: laidPreview.value.key!, reach: 0.3, moved: true, name: 'moved' } : null
  if (!j.show.tide) return null
  if (j.proof) return { key: j.proof.key, scan: j.proof.scan_key, reach: histogramReach(j.proof.summary), moved: false }
  const under = j.check ? j.byId.get((j.check.record as any).scan)?.key : null
  return j.check?.key && under ? { key: j.check.key, scan: under, reach: histogramReach(j.check.summary), moved: false } : null
})
let firstOthers = true
let wasJoined = ''
watch([others, () => matrix.value, joined], async ([list]) => {
  if (!j.job) return
  try {
    const got = await Promise.all(list.map(async (t) => ({ id: t.id, buffers: await seenOf(t.id, t.key!), colour: colourOf(j.root(t.id)), matrix: joined.value ? placedMatrix(t.id) : null })))
    if (list !== others.value) return
    scene?.setOthers(got, matrix.value)
    const main = joined.value?.[0]
    if (main) scene?.setMatrix(main.matrix)
    await apart()
    const state = joinMesh.value ? 'mesh' : joined.value ? (j.placement ? `placed ${Object.keys(j.placement.summary.motions)}` : 'apart') : ''
    if (state !== wasJoined) { wasJoined = state; scene?.fit(false) }
    if (got.length && firstOthers) { firstOthers = false; scene?.fit(false) }
  } catch (e) {
    j.error = (e as Error).message
  }
}, { immediate: true, flush: 'post' })
/** Scans lying together, coloured by how far each place is from what the others saw there. */
const strained = computed(() => (joined.value && j.show.joined === 'apart' && j.placement?.summary.links.length ? j.placement.key : null))
async function apart() {
  if (!joined.value || !j.job) return
  const key = strained.value
  if (!key) return scene?.setApart(mainRoot.value, null)
  const list = joined.value.map((x) => x.s).filter((s) => j.placement!.summary.motions[s.id])
  const got = await Promise.all(list.map(async (s) => [s.id, ((await geometry(j.job!.id, key, 'also', s.key!, `apart_${s.id}`)).arrays.values as Float32Array).map(Math.abs)] as [string, Float32Array]))
  if (strained.value !== key) return
  const size = Float32Array.from(got.flatMap(([, v]) => Array.from(v).filter(Number.isFinite))).sort()
  j.movedReach = Math.max(size[Math.floor(size.length * 0.98)] ?? 0, 0.002)
  scene?.setApart(mainRoot.value, new Map(got), Math.min(0.5 * j.placement!.summary.rms, 0.5 * j.movedReach), j.movedReach)
}
watch(strained, () => apart().catch((e) => (j.error = e.message)), { flush: 'post' })
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
watch([scanKey, () => (joined.value ? j.placement?.key : null)], async ([key]) => {
  if (!key || !j.job) return scene?.setScan(null, null)
  loading.value = 'Fetching the scan'
  try {
    const b = joined.value ? await seenOf(mainRoot.value, key) : await geometry(j.job.id, key, 'scan')
    if (scanKey.value !== key) return
    scene!.setScan(b, joined.value ? placedMatrix(mainRoot.value) : matrix.value, colourOf(j.root(mainRoot.value)))
    scene!.setEdges(j.show.edges)
    shown()
    if (firstScan || wasJoined) scene!.fit(false)
    firstScan = false
    scene!.setLit(j.lit, j.litGoes)
    await patches()
    await colour()
    await apart()
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
  if (joined.value) return
  scene?.setMatrix(m)
  if (JSON.stringify(m) !== JSON.stringify(old)) scene?.fit(false)
}, { flush: 'post' })

async function colour() {
  const t = tide.value
  if (!t || !j.job) { deviation = null; return scene?.setTide(null, 0, 1) }
  if (t.moved) {
    const a = await geometry(j.job.id, t.key, 'also', t.scan, (t as any).name ?? 'moved')
    if (tide.value?.key !== t.key) return
    const values = a.arrays.values as Float32Array
    const size = Float32Array.from(values, Math.abs).sort()
    j.movedReach = Math.max(size[Math.floor(size.length * 0.995)] ?? 0, 0.002)
    deviation = { header: { names: [] }, arrays: { distance: values, face: new Int32Array(values.length) } }
    return scene?.setTide(values, j.movedReach * 0.1, j.movedReach)
  }
  const b = await geometry(j.job.id, t.key, 'deviation', t.scan)
  if (tide.value?.key !== t.key) return
  deviation = b
  scene?.setTide(b.arrays.distance as Float32Array, j.tolerance, t.reach)
}
watch([tide, () => j.tolerance], () => colour().catch((e) => (j.error = e.message)), { flush: 'post' })
watch([() => j.lit, () => j.litGoes], () => scene?.setLit(j.lit, j.litGoes), { flush: 'post' })
watch(() => j.show.edges, (on) => scene?.setEdges(on), { flush: 'post' })
watch(() => j.show.colours, (on) => scene?.setColourful(on), { flush: 'post' })
watch(() => j.focus, (f) => { if (f) scene?.closeTo(shownPlace(f.place), f.size) }, { flush: 'post' })

/** Patches a closing step would add, lit on its preview. */
async function patches() {
  const p = laidPreview.value
  if (!p || !j.show.after || !['holes', 'bridge'].includes(j.hand?.kind ?? '') || !(p.summary as any).added) return
  const b = await geometry(j.job!.id, p.key!, 'also', p.key!, 'patch')
  if (scanKey.value !== p.key) return
  const some: number[] = []
  ;(b.arrays.values as Uint8Array).forEach((v, i) => { if (v) some.push(i) })
  scene?.setLit(Uint32Array.from(some))
}
const frameMatrix = () => {
  const f = new THREE.Matrix4()
  if (matrix.value) f.set(...(matrix.value.flat() as Parameters<THREE.Matrix4['set']>))
  return f
}
const shownPlace = (p: number[]) => new THREE.Vector3(...(p as [number, number, number])).applyMatrix4(frameMatrix()).toArray()
const scanPlace = (p: THREE.Vector3) => p.clone().applyMatrix4(frameMatrix().invert()).toArray().map((x) => Number(x.toFixed(5))) as [number, number, number]
const scanDirection = (d: THREE.Vector3) => d.clone().transformDirection(frameMatrix().invert()).toArray() as [number, number, number]

function shown() {
  const scanOn = j.show.tide || j.cleaning || j.joining || (j.show.scan && (!j.scan || j.visible(j.scan.id)))
  const bodyOn = !j.show.tide && !j.cleaning && !j.joining && j.show.model && (!j.body || j.visible(j.body.id))
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
  if (j.lines.length) out.push({ lines: j.lines.map((l) => ({ ...l, points: l.points.map(shownPlace) })) })
  const slab = j.hand?.kind === 'background' ? (j.preview?.summary as any)?.plane : null
  if (slab) out.push({ plane: { origin: shownPlace(slab.point), normal: new THREE.Vector3(...(slab.normal as [number, number, number])).transformDirection(frameMatrix()).toArray(), size: 0.72 * Math.hypot(...(((j.handScan?.summary as any)?.bounds?.[1] ?? [60, 60, 0]) as number[]).map((v, k) => v - ((j.handScan?.summary as any)?.bounds?.[0]?.[k] ?? 0))) } })
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
// Marks being drawn: a stroke's or an outline's path in pixels.
const path = ref<[number, number][]>([])
let stroke: [number, number, number][] = []
const pointer = ref<[number, number] | null>(null)
const brushing = (e: { shiftKey: boolean; button: number }) => j.slot === 'marks' && e.button === 0 && !e.shiftKey && (m.by === 'brush' || m.by === 'outline' || held.value)
const held = ref(false)
const hold = (e: KeyboardEvent) => { if (e.key.toLowerCase() === 'b' && !(e.target as HTMLElement).matches('input, select, textarea')) held.value = e.type === 'keydown' }
onMounted(() => { window.addEventListener('keydown', hold); window.addEventListener('keyup', hold) })
onBeforeUnmount(() => { window.removeEventListener('keydown', hold); window.removeEventListener('keyup', hold) })
const brushPixels = computed(() => (m.onScreen ? m.radius : m.radius / (scene?.scale ?? 1)))
function paint(x: number, y: number) {
  const last = path.value[path.value.length - 1]
  const by = held.value ? 'brush' : m.by
  if (last && Math.hypot(last[0] - x, last[1] - y) < (by === 'brush' ? Math.max(3, brushPixels.value * 0.35) : 4)) return
  path.value = [...path.value, [x, y]]
  if (by !== 'brush') return
  const h = scene!.hit(x, y, ['scan'])
  if (h) stroke.push(scanPlace(h.place))
}
function finishMark() {
  const by = held.value ? 'brush' : m.by
  const toward = scanDirection(scene!.toward)
  const places = by === 'brush' ? stroke : path.value.map(([x, y]) => scanPlace(scene!.under(x, y)))
  const enough = by === 'brush' ? places.length > 0 : places.length > 2
  path.value = []
  stroke = []
  if (enough) addMark({ by, how: m.how, places, toward, through: m.through, radius: by === 'brush' ? Number((m.onScreen ? m.radius * scene!.scale : m.radius).toFixed(4)) : null })
}
function addMark(mark: Record<string, any>) {
  j.hand!.record.marks.push(mark)
  j.select()
  j.tryIt()
}
// A curve's place being dragged.
let grabbed = -1
const places2d = () => (j.slot === 'curve' ? (j.hand!.record.places as number[][]).map((p) => scene!.project(shownPlace(p) as [number, number, number])) : [])

let down: { x: number; y: number; button: number; moved: boolean; pan: boolean } | null = null
function press(e: PointerEvent) {
  canvas.value!.setPointerCapture(e.pointerId)
  canvas.value!.focus()
  if (brushing(e)) { path.value = []; stroke = []; return paint(e.offsetX, e.offsetY) }
  grabbed = e.button === 0 ? places2d().findIndex((p) => Math.hypot(p.x - e.offsetX, p.y - e.offsetY) < 9) : -1
  down = { x: e.offsetX, y: e.offsetY, button: e.button, moved: false, pan: e.button === 2 || e.button === 1 || e.shiftKey }
}
function drag(e: PointerEvent) {
  pointer.value = [e.offsetX, e.offsetY]
  if (path.value.length) return paint(e.offsetX, e.offsetY)
  if (!down) return hover(e)
  if (grabbed >= 0) {
    const h = scene!.hit(e.offsetX, e.offsetY, ['scan'])
    if (h && Math.hypot(e.offsetX - down.x, e.offsetY - down.y) > 2) { down.moved = true; j.hand!.record.places[grabbed] = scanPlace(h.place); drawPlaces() }
    return
  }
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
  if (path.value.length) return finishMark()
  if (grabbed >= 0 && down?.moved) j.tryIt()
  else if (down && !down.moved && down.button === 0) click(e.offsetX, e.offsetY)
  grabbed = -1
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
  if (j.slot === 'rims') {
    // The rim nearest the pointer on the screen.
    const near = nearestLine(x, y)
    if (near >= 0) emit('rim', near)
    return
  }
  const h = scene.hit(x, y, ['scan'])
  if (!h) return
  const place = scanPlace(h.place), normal = scanDirection(h.normal)
  if (j.slot === 'marks') return addMark({ by: m.by, how: m.how, places: [place], normal, angle_deg: m.angle[m.by] ?? null })
  emit('picked', { slot: j.slot, place, normal })
}
const emit = defineEmits<{ rim: [number: number]; over: [number: number]; picked: [at: { slot: string; place: [number, number, number]; normal: [number, number, number] }] }>()

/** Which of the lines on show lies nearest a pixel, within reach. */
function nearestLine(x: number, y: number): number {
  let best = -1, gap = 16
  j.lines.forEach((l, i) => {
    for (const p of l.points) {
      const s = scene!.project(shownPlace(p) as [number, number, number])
      const d = Math.hypot(s.x - x, s.y - y)
      if (d < gap) { gap = d; best = i }
    }
  })
  return best
}
/** A curve's places as drawn so far, until the smooth curve is worked out. */
function drawPlaces() {
  const h = j.hand
  if (h?.kind !== 'curvecut') return
  const cross = (p: number[]) => { const r = 5 * (scene?.scale ?? 0.1); return [0, 1, 2].map((k) => ({ points: [p.map((v, i) => (i === k ? v - r : v)), p.map((v, i) => (i === k ? v + r : v))], closed: false, colour: 'saffron' })) }
  const worked = (j.preview?.summary as any)?.curve as number[][] | undefined
  const smooth = worked && !j.previewing && j.preview?.status !== 'failed'
  j.lines = [
    ...(h.record.places as number[][]).flatMap(cross),
    { points: smooth ? worked : h.record.places, closed: h.record.closed, colour: 'saffron' },
    ...(h.record.keep ? cross(h.record.keep).map((l) => ({ ...l, colour: 'moss' })) : []),
  ]
}
watch([() => j.hand?.kind === 'curvecut' && JSON.stringify([j.hand.record.places, j.hand.record.closed, j.hand.record.keep]), () => j.preview, () => j.previewing], drawPlaces, { flush: 'post' })

function hover(e: PointerEvent) {
  if (j.slot === 'rims' && scene) emit('over', nearestLine(e.offsetX, e.offsetY))
  if (!deviation || !tide.value || !scene) { label.value = null; return }
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
const HINTS: Record<string, string> = {
  edges: 'Click near an edge of the model', place: 'Click the surface on the scan', rims: 'Click a rim to pick it or let it go', curve: 'Click places along the curve; drag one to move it',
  keep: 'Click the side that stays', bridge: 'Click places on the rim',
}
defineExpose({ back: () => scene?.back(), forward: () => scene?.forward(), fit: () => scene?.fit() })
</script>

<template>
  <div ref="box" class="relative min-w-0 flex-1 overflow-hidden bg-ground" aria-label="View" role="region">
    <canvas
      ref="canvas" class="absolute inset-0 h-full w-full touch-none outline-none" tabindex="0" aria-label="3D view of scan and model"
      :style="{ cursor: j.slot ? 'crosshair' : 'default' }"
      @pointerdown="press" @pointermove="drag" @pointerup="release" @pointerleave="label = null; pointer = null" @wheel.prevent="wheel" @contextmenu.prevent
    />
    <div class="absolute left-3.5 top-3 flex gap-1.5">
      <button class="btn !bg-sheet !px-1.5" :disabled="!history.back" aria-label="View back" title="View back  ," @click="scene?.back()"><ChevronLeft :size="15" /></button>
      <button class="btn !bg-sheet !px-1.5" :disabled="!history.forward" aria-label="View forward" title="View forward  ." @click="scene?.forward()"><ChevronRight :size="15" /></button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.scan }" :aria-pressed="j.show.scan" title="Scan and model swap with Space" @click="j.show.scan = !j.show.scan">scan</button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.model }" :aria-pressed="j.show.model" :disabled="!bodyKey" title="Scan and model swap with Space" @click="j.show.model = !j.show.model">model</button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.tide }" :aria-pressed="j.show.tide" :disabled="!j.check && !j.proof" title="Deviation colours  D" @click="j.show.tide = !j.show.tide">tide</button>
      <button class="btn !bg-sheet" :class="{ 'btn-on': j.show.edges }" :aria-pressed="j.show.edges" title="Triangle edges" @click="j.show.edges = !j.show.edges">edges</button>
      <button v-if="(j.scan?.summary as any)?.coloured" class="btn !bg-sheet" :class="{ 'btn-on': j.show.colours }" :aria-pressed="j.show.colours" title="The scan's own colours" @click="j.show.colours = !j.show.colours">colours</button>
    </div>
    <MarkBar v-if="j.slot === 'marks' && j.hand?.record.marks" />
    <svg v-if="j.slot === 'marks'" class="pointer-events-none absolute inset-0 h-full w-full" aria-hidden="true">
      <polygon v-if="path.length && (held ? 'brush' : m.by) === 'outline'" :points="path.map((p) => p.join(',')).join(' ')" fill="#E79A1222" stroke="#E79A12" stroke-width="1.6" />
      <polyline v-else-if="path.length" :points="path.map((p) => p.join(',')).join(' ')" fill="none" stroke="#E79A12" stroke-opacity="0.45" :stroke-width="2 * brushPixels" stroke-linecap="round" stroke-linejoin="round" />
      <circle v-if="pointer && (m.by === 'brush' || held)" :cx="pointer[0]" :cy="pointer[1]" :r="brushPixels" fill="none" stroke="#23262A" />
    </svg>
    <p v-if="j.slot && j.hand" class="absolute bottom-4 left-1/2 -translate-x-1/2 border-l-[3px] border-saffron bg-sheet px-2.5 py-1.5 text-[12.5px]">
      {{ HINTS[j.slot] ?? (j.slot === 'marks' ? MARK_SAYS[held ? 'brush' : m.by] : `Click the face where it ${j.slot === 'start' ? 'begins' : 'ends'}`) }}
    </p>
    <p v-if="loading || j.running.length" class="absolute bottom-14 right-4 border-l-[3px] border-saffron bg-sheet px-2.5 py-1.5 text-[12.5px]" role="status">
      {{ loading || `${j.running[0].message || j.running[0].label} ${Math.round(j.running[0].progress * 100)} %` }}
    </p>
    <p v-if="label" class="fig pointer-events-none absolute border border-rule border-l-[3px] border-l-saffron bg-sheet px-2 py-1" :style="{ left: `${label.x + 14}px`, top: `${label.y - 30}px` }">{{ label.text }}</p>
    <Rose :quaternion="turn" @look="look" />
  </div>
</template>
