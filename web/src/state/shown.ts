/** What is shown of the job, and how: the stage, what is hidden, colours, units. */
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import type { ProofView, Vec3 } from '../api/types'
import { stageOf } from '../kinds/registry'
import type { StageKey } from '../kinds/stages'
import type { Cut } from '../view3d/scene'
import type { Shine } from '../view3d/shine'
import { useJob } from './job'

/** A way of looking: towards the viewer, up, the middle and the height that is seen, mm. */
export type Looking = { toward: number[]; up: number[]; middle: number[]; span: number }

export const useShown = defineStore('shown', () => {
  const j = useJob()
  const stage = ref<StageKey>('Scans')
  const show = reactive({
    scan: true,
    /** The model where scan and model are both worked on, and where only the scan is. */
    model: true,
    modelBesideScan: false,
    tide: false,
    after: true,
    edges: false,
    shine: 'matt' as Shine,
    moved: false,
    colours: true,
    joined: 'scans' as 'scans' | 'mesh' | 'apart',
  })
  const hidden = reactive(new Set<string>())
  const alone = ref<string | null>(null)
  const chosen = ref<string | null>(null)
  const proof = shallowRef<ProofView | null>(null)
  /** A section through all that is shown. */
  const cut = ref<Cut | null>(null)
  /** Whether the whole ledger lies under the view. */
  const ledger = ref(false)
  /** Whether the table of other pieces stands in the view's place. */
  const pieces = ref(false)
  /** Whether a capture stands there. */
  const capture = ref(false)
  /** Where that section lies on its axis, mm. */
  const cutPlace = ref<number | null>(null)
  /** How the view looks now, for who keeps it, and how it is to look. */
  const looking = shallowRef<() => Looking | null>(() => null)
  const looked = shallowRef<Looking | null>(null)
  /** How far the colours of what moved or strains reach, mm. */
  const reach = ref(0)
  /** A place to look at closer, in the scan's coordinates or, where `framed`, in the frame's. */
  const focus = shallowRef<{ place: number[]; size: number; framed: boolean } | null>(null)
  /** A direction to look from, and what lies up, in the frame's coordinates. */
  const facing = shallowRef<{ from: number[] } | null>(null)
  /** Lines a panel wants drawn, in the scan's coordinates. */
  const lines = shallowRef<{ points: number[][]; closed: boolean; colour: string }[]>([])
  const inches = ref(localStorage.getItem('mason.units') === 'in')
  watch(inches, (v) => localStorage.setItem('mason.units', v ? 'in' : 'mm'))

  const onScan = computed(() => (stageOf(stage.value)?.view ?? 'both') !== 'both' && !proof.value)
  /** Whether the model is asked for: where a stage works on the scan, it stays hidden until it is. */
  const model = computed({
    get: () => (onScan.value ? show.modelBesideScan : show.model),
    set: (v: boolean) => (onScan.value ? (show.modelBesideScan = v) : (show.model = v)),
  })
  // A stage that works on the scan shows it, and the model only when asked.
  watch(onScan, (on) => {
    show.modelBesideScan = false
    if (!on) return
    show.scan = true
    show.tide = false
  })

  const visible = (id: string) => {
    const r = j.root(id)
    return alone.value ? alone.value === r || alone.value === id : !hidden.has(r)
  }
  function toggle(id: string) {
    const r = j.root(id)
    if (!hidden.delete(r)) hidden.add(r)
  }
  function reset() {
    proof.value = null
    pieces.value = capture.value = false
    chosen.value = null
    hidden.clear()
    alone.value = null
    focus.value = null
    facing.value = null
    lines.value = []
    cut.value = null
    Object.assign(show, { scan: true, model: true, modelBesideScan: false, tide: false, moved: false })
    show.joined = j.merged ? 'mesh' : 'scans'
    const bare = j.allStones.every((s) => s.course === 'scan')
    stage.value = !bare ? 'Build' : j.placed ? 'Join' : 'Scans'
  }
  const lookAt = (place: Vec3 | number[], size: number, framed = false) =>
    (focus.value = { place, size, framed })

  return {
    stage,
    show,
    model,
    onScan,
    hidden,
    alone,
    chosen,
    ledger,
    pieces,
    capture,
    cut,
    proof,
    cutPlace,
    looking,
    looked,
    reach,
    focus,
    facing,
    lines,
    inches,
    visible,
    toggle,
    reset,
    lookAt,
  }
})
