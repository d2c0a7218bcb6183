/** The keys of the room. */
import { onBeforeUnmount, onMounted, type Ref } from 'vue'
import { useBelt } from '../state/belt'
import { useMade } from '../state/made'
import { useRoom } from '../state/room'

type View = { fit: () => void; back: () => void; forward: () => void }

export function useKeys(of: {
  view: Ref<View | null>
  finding: Ref<boolean>
  keys: Ref<boolean>
  help: Ref<boolean>
}) {
  const room = useRoom()
  const { job: j, hand, shown, marks } = room
  const belt = useBelt()
  const made = useMade()

  function swap() {
    shown.show.tide = false
    const scan = shown.show.scan
    shown.show.scan = !scan || !j.body
    shown.model = scan
  }
  function widen(factor: number) {
    if (hand.spot?.marks) return marks.widen(factor)
    if (hand.kind && hand.record) hand.kind.widens(factor, hand.record, room)
  }
  const ACTS: Record<string, () => void> = {
    '/': () => (of.finding.value = true),
    '?': () => (of.keys.value = true),
    h: () => (of.help.value = true),
    ' ': swap,
    d: () => {
      if (j.check || shown.proof || (j.body && j.scan)) shown.show.tide = !shown.show.tide
    },
    a: () => (shown.alone = shown.alone ? null : (shown.chosen ?? j.body?.id ?? null)),
    l: () => (shown.ledger = !shown.ledger),
    x: () => (shown.cut = shown.cut ? null : { axis: 'y', share: 0.5, flip: true }),
    f: () => of.view.value?.fit(),
    ',': () => of.view.value?.back(),
    '.': () => of.view.value?.forward(),
    '[': () => widen(1 / 1.25),
    ']': () => widen(1.25),
  }

  function undo(again: boolean) {
    if (hand.kind?.steps(again)) return
    if (again ? j.job?.redo : j.job?.undo) j.act('POST', again ? '/redo' : '/undo')
  }
  function escape(t: HTMLElement, typing: boolean) {
    if (of.finding.value || of.keys.value || of.help.value)
      of.finding.value = of.keys.value = of.help.value = false
    else if (typing) t.blur()
    else if (hand.held) {
      if (!hand.kind?.escapes()) hand.drop()
    } else if (made.given.length) made.clear()
    else {
      shown.chosen = null
      hand.lit = null
      if (shown.proof) {
        shown.proof = null
        shown.show.tide = false
      }
    }
  }
  function enter(t: HTMLElement, typing: boolean): boolean {
    if (t.matches('button, a, select, textarea, [role=button]')) return false
    if (hand.held && (!typing || t.matches('input'))) {
      t.blur()
      hand.lay()
      return true
    }
    if (!hand.held && !typing && made.offers.length) {
      made.take()
      return true
    }
    return false
  }
  function onKey(e: KeyboardEvent) {
    const t = e.target as HTMLElement
    const typing = t.matches('input:not([type=range]):not([type=checkbox]), textarea, select')
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z') {
      if (typing) return
      e.preventDefault()
      return undo(e.shiftKey)
    }
    if (e.key === 'Escape') return escape(t, typing)
    if (e.ctrlKey || e.metaKey || e.altKey) return
    if (e.key === 'Enter') {
      if (enter(t, typing)) e.preventDefault()
      return
    }
    if (typing) return
    if (e.key === ' ' && t.matches('button, [role=button]')) return
    const act = ACTS[e.key.length === 1 ? e.key.toLowerCase() : e.key]
    if (act) {
      e.preventDefault()
      return act()
    }
    const tool = belt.tools[Number(e.key) - 1]
    if (tool && tool.fits(room)) {
      e.preventDefault()
      hand.start(tool)
    }
  }
  onMounted(() => window.addEventListener('keydown', onKey))
  onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
}
