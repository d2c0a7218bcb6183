/**
 * The marking tool's hand: strokes and outlines drawn over the view, while its slot has the hand or B is
 * held.
 */
import { computed, onBeforeUnmount, onMounted, ref, type ShallowRef } from 'vue'
import type { Vec3 } from '../api/types'
import { useHand } from '../state/hand'
import { useMarks, type MarkRule } from '../state/marks'
import { under } from './picking'
import type { Viewer } from './viewer'

const ERASER = 5

export function useMarking(viewer: ShallowRef<Viewer | null>) {
  const hand = useHand()
  const m = useMarks()
  /** The path being drawn, in pixels. */
  const path = ref<[number, number][]>([])
  const pointer = ref<[number, number] | null>(null)
  const held = ref(false)
  let stroke: Vec3[] = []
  let erases = false

  const by = computed<MarkRule>(() => (held.value ? 'brush' : m.by))
  /** mm a pixel, as the view was when the pointer last moved or the view came nearer. */
  const scale = ref(1)
  const zoomed = () => (scale.value = viewer.value?.scale ?? 1)
  const pixels = computed(() => (m.onScreen ? m.radius : m.radius / scale.value))
  /** The slot that had the hand before B was held. */
  let before: { slot: string | null; took: string } | null = null
  const hold = (e: KeyboardEvent) => {
    if (e.key.toLowerCase() !== 'b' || (e.target as HTMLElement).matches('input, select, textarea')) return
    const down = e.type === 'keydown'
    if (down === held.value) return
    held.value = down
    if (down && hand.kind && !hand.spot?.marks) {
      // What is picked is brushed while B is held, whatever had the hand.
      const onto = Object.entries(hand.kind.slots).find(([, s]) => s.onto?.marks(hand.record!))
      if (onto) {
        before = { slot: hand.slot, took: onto[0] }
        hand.slot = onto[0]
      }
    } else if (!down && before) {
      // Something else may have been taken in hand meanwhile.
      if (hand.slot === before.took) hand.slot = before.slot
      before = null
    }
  }
  onMounted(() => ['keydown', 'keyup'].forEach((k) => window.addEventListener(k, hold as EventListener)))
  onBeforeUnmount(() =>
    ['keydown', 'keyup'].forEach((k) => window.removeEventListener(k, hold as EventListener)),
  )

  function begins(e: PointerEvent): boolean {
    const drawn = by.value === 'brush' || by.value === 'outline'
    const ends = e.button === ERASER // a pen turned round takes away
    if (!hand.spot?.marks || (e.button !== 0 && !ends) || e.shiftKey || !drawn) return false
    erases = ends
    path.value = []
    stroke = []
    zoomed()
    return true
  }
  function moves(e: PointerEvent): boolean {
    pointer.value = [e.offsetX, e.offsetY]
    zoomed()
    if (!path.value.length) return false
    paint(e.offsetX, e.offsetY)
    return true
  }
  function paint(x: number, y: number) {
    const last = path.value.at(-1)
    const step = by.value === 'brush' ? Math.max(3, pixels.value * 0.35) : 4
    if (last && Math.hypot(last[0] - x, last[1] - y) < step) return
    path.value = [...path.value, [x, y]]
    if (by.value !== 'brush') return
    const at = under(viewer.value!, x, y, ['scan'])
    if (at?.what === 'scan') stroke.push(at.place)
  }
  function finishes(): boolean {
    if (!path.value.length) return false
    const v = viewer.value!
    const brush = by.value === 'brush'
    const toward = v.toward.transformDirection(v.scanMotion.invert()).toArray() as Vec3
    const outline = path.value.map(([x, y]) => v.toScan(v.under(x, y)).toArray() as Vec3)
    const places = brush ? stroke : outline
    const radius = Number((m.onScreen ? m.radius * v.scale : m.radius).toPrecision(6))
    path.value = []
    stroke = []
    if (places.length > (brush ? 0 : 2))
      hand.mark({
        by: by.value,
        how: erases ? 'take away' : m.how,
        places,
        toward,
        through: m.through,
        radius: brush ? radius : null,
      })
    // What was drawn is put: the release that ends it is no click.
    return true
  }
  /** What was begun is let go: another finger came. */
  function drops() {
    path.value = []
    stroke = []
  }
  return { drops, by, path, pointer, pixels, begins, moves, paint, finishes, zoomed }
}
