/** The capture that is open: what stands of it, its points as they come, and what is done with its device. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { call, sent } from '../api/client'
import type { Schemas } from '../api/types'
import { useJob } from '../state/job'
import { lanesOver, lookFrom, type Camera, type Vec } from './camera'

export type Capture = Schemas['CaptureView']
export type Picture = Schemas['CameraPicture']
export type Doing = 'touch' | 'boundary' | 'cut' | 'scan'
export type Led = 'in' | 'row' | 'sideways'

const QUICK = 300
const SLOW = 1200
const MOST_SHOWN = 600_000

export const useCapture = defineStore('capture', () => {
  const j = useJob()
  const list = shallowRef<Schemas['CaptureLine'][]>([])
  const on = ref<number | null>(null)
  const view = shallowRef<Capture | null>(null)
  const error = ref('')
  const waiting = ref(false)
  const camera = shallowRef<Camera>(lookFrom([0, 0, 1], [0, 1, 0], [0, 0, 0], 3))
  // What the pointer does in the view.
  const doing = ref<Doing>('touch')
  const reads = ref('level')
  const led = ref<Led>('in')
  const row = ref(5)
  /** How high, towards the viewer, the probe is led sideways, mm. */
  const height = ref<number | null>(null)
  const corners = ref<Vec[]>([])
  const touchCorners = ref(false)
  const reach = ref(1)
  const cuts = ref(1)
  const apart = ref(10)
  const width = ref(40)
  const stops = ref(12)
  const tilt = ref(35)
  /** Points (x, y, z) shown so far, how many, and the first that came last. */
  const points = { flat: new Float32Array(3 * 65536), count: 0, fresh: 0, since: 0 }
  const come = ref(0)
  let generation = -1
  let timer = 0

  const base = () => `/jobs/${j.job!.id}/captures`
  const here = () => `${base()}/${on.value}`
  const connected = computed(() => view.value?.device.state === 'there')
  const busy = computed(() => view.value?.device.busy ?? '')

  async function load() {
    if (j.job) list.value = await call<Schemas['CaptureLine'][]>('GET', base()).catch(() => [])
  }
  watch(
    () => j.job?.id,
    () => {
      close()
      load()
    },
    { immediate: true, flush: 'sync' }, // before who opens the job goes on
  )

  function open(id: number) {
    close()
    on.value = id
    follow()
  }
  function close() {
    window.clearTimeout(timer)
    on.value = null
    view.value = null
    error.value = ''
    corners.value = []
    points.count = points.fresh = 0
    generation = -1
    if (j.job) load()
  }
  async function follow() {
    window.clearTimeout(timer)
    const id = on.value
    if (id === null) return
    try {
      const got = await call<Capture>('GET', `${here()}?reads=${reads.value}`)
      if (id !== on.value) return
      view.value = got
      await fetchPoints(got)
    } catch (e) {
      if (id === on.value) error.value = (e as Error).message
    }
    if (id === on.value) timer = window.setTimeout(follow, busy.value ? QUICK : SLOW)
  }
  watch(reads, follow)
  /** What the device can do, or could where none is connected. */
  const can = (tool: string) => !connected.value || !!view.value?.device.tools.includes(tool)
  watch(connected, () => {
    if (!can('probe') && doing.value === 'touch') doing.value = 'scan'
  })

  async function fetchPoints(got: Capture) {
    const id = on.value
    while (id === on.value && (got.generation !== generation || points.count < got.kept)) {
      if (points.count >= MOST_SHOWN && got.generation === generation) return
      const r = await fetch(`/api${here()}/points?after=${points.count}&generation=${generation}`)
      if (!r.ok || id !== on.value) return
      const bytes = await r.arrayBuffer()
      const [now, begin, count] = new Uint32Array(bytes, 0, 3)
      const first = generation === -1
      if (begin === 0) points.count = 0
      while (points.flat.length < 3 * (points.count + count)) {
        const more = new Float32Array(2 * points.flat.length)
        more.set(points.flat)
        points.flat = more
      }
      points.flat.set(new Float32Array(bytes, 12), 3 * points.count)
      // What came last is told by its colour, not what was there when the capture was opened or drawn anew.
      points.fresh = first || begin === 0 ? points.count + count : points.count
      points.count += count
      points.since = performance.now()
      generation = now
      come.value++
      if (count === 0) return
    }
  }

  async function act(method: string, more: string, body?: unknown) {
    error.value = ''
    waiting.value = true
    try {
      view.value = await call<Capture>(method, here() + more, body)
      follow()
      return true
    } catch (e) {
      error.value = (e as Error).message
      return false
    } finally {
      waiting.value = false
    }
  }
  async function begin() {
    const { id } = await call<{ id: number }>('POST', base(), { name: '' })
    open(id)
  }
  async function replay(file: File) {
    const { id } = await sent<{ id: number }>(`${base()}/file`, file, () => {})
    open(id)
  }
  const touch = (begin: Vec, along: Vec, to: Vec | null = null, count = 1) =>
    act('POST', `/touch?reads=${reads.value}`, { begin, along, to, row: count })
  const put = (thing: Record<string, unknown>) => act('POST', '/things', thing)
  const keep = () => put({ what: reads.value })
  async function closeBoundary() {
    if (await put({ what: 'boundary', corners: corners.value, toward: camera.value.toward }))
      corners.value = []
  }
  const sweep = (path: Vec[], along: Vec, across: Vec | null) =>
    act('POST', '/sweep', { path, along, width: width.value, across })
  /** To and fro over what the boundaries leave, or the whole part, seen as it is looked at now. */
  const sweepAll = () => {
    const b = view.value?.bounds
    if (!b) return
    const marked = view.value!.things.filter((t) => t.what === 'boundary').flatMap((t) => t.lines[0].places)
    const corners = [0, 1, 2, 3, 4, 5, 6, 7].map((k) => [b[k & 1][0], b[(k >> 1) & 1][1], b[k >> 2][2]])
    const lanes = lanesOver(camera.value, marked.length ? marked : corners, corners, width.value)
    const into = camera.value.toward.map((v) => -v) as Vec
    return sweep(lanes, into, camera.value.up)
  }
  /** A boundary that a sketch of the job draws. */
  const boundBy = (sketch: string) => put({ what: 'boundary', sketch })
  const turn = () => act('POST', '/turn', { stops: stops.value, tilt_deg: tilt.value })
  const look = (toward: Vec, up: Vec) => call<Picture>('POST', `${here()}/look`, { toward, up, wide: 480 })
  async function lay() {
    if (!j.job) return
    error.value = ''
    waiting.value = true
    try {
      await call('POST', `${here()}/lay`)
      await j.refresh()
      await follow()
    } catch (e) {
      error.value = (e as Error).message
    } finally {
      waiting.value = false
    }
  }
  async function remove(id: number) {
    list.value = await call<Schemas['CaptureLine'][]>('DELETE', `${base()}/${id}`)
  }

  return {
    camera,
    sweepAll,
    list,
    on,
    view,
    error,
    waiting,
    doing,
    reads,
    led,
    row,
    height,
    corners,
    touchCorners,
    reach,
    cuts,
    apart,
    width,
    stops,
    tilt,
    boundBy,
    turn,
    points,
    come,
    connected,
    can,
    busy,
    load,
    open,
    close,
    begin,
    replay,
    act,
    touch,
    put,
    keep,
    closeBoundary,
    sweep,
    look,
    lay,
    remove,
    here,
  }
})
