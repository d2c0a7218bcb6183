<script setup lang="ts">
/**
 * The wall: the recipe as masonry, five courses, each stone right of what it rests on; the last stones in
 * sight.
 */
import { computed, nextTick, ref, watch } from 'vue'
import type { Stone } from '../api/types'
import { kindOf } from '../kinds/registry'
import { useRoom } from '../state/room'
import ChosenActs from './ChosenActs.vue'
import { COURSES, folds, layWall, related } from './layout'

const MANY = 24 // stones from which on the wall is searched
const { job: j, hand, shown } = useRoom()
const COLOURS: Record<(typeof COURSES)[number], string> = {
  checks: 'bg-course-checks border-course-checks-rim',
  bodies: 'bg-course-bodies border-course-bodies-rim',
  sketches: 'bg-course-sketches border-course-sketches-rim',
  datums: 'bg-course-datums border-course-datums-rim',
  scan: 'bg-course-scan border-course-scan-rim',
}
/** Closed, a stone stands for those that serve it alone. */
const closed = ref(false)
const within = computed(() => (closed.value ? folds(j.allStones) : new Map<string, string[]>()))
const shownStones = computed(() => {
  const inside = new Set([...within.value.values()].flat())
  return j.allStones.filter((s) => !inside.has(s.id)).map((s) => ({ ...s, inputs: through(s, inside) }))
})
/** What a stone rests on, through those that are closed into it. */
function through(s: Stone, inside: Set<string>): string[] {
  return s.inputs.flatMap((i) => (inside.has(i) ? through(j.byId.get(i)!, inside) : [i]))
}
const called = (s: Stone) => {
  const n = within.value.get(s.id)?.length
  return n ? `${s.name} +${n}` : s.name
}
const canFold = computed(() => folds(j.allStones).size > 0)
const layout = computed(() => layWall(shownStones.value.map((s) => ({ ...s, name: called(s) }))))
const used = computed(() => COURSES.filter((c) => shownStones.value.some((s) => s.course === c)))
const byCourse = computed(
  () => new Map(used.value.map((c) => [c, shownStones.value.filter((s) => s.course === c)])),
)
const total = computed(() => Math.max(400, ...[...layout.value.values()].map((p) => p.left + p.width + 40)))
const lit = computed(() => {
  const id = shown.chosen ?? (hand.held?.editing ? (hand.record?.id ?? null) : null)
  return id ? { id, ...related(j.allStones, id) } : null
})
const FACE: Record<string, string> = {
  attention: '!border-rust !bg-warn',
  failed: '!border-brick !bg-broken',
  waiting: '!border-dashed !bg-transparent',
  pending: '!border-dashed opacity-70',
  off: 'opacity-40 line-through',
}
const found = ref('')
const matches = computed(() => {
  const wanted = found.value.trim().toLowerCase()
  if (!wanted) return null
  const byValue = new Set(
    (j.job?.values ?? [])
      .filter((v) => `${v.label} ${v.chosen}`.toLowerCase().includes(wanted))
      .map((v) => v.step),
  )
  return new Set(
    j.allStones.filter((s) => s.name.toLowerCase().includes(wanted) || byValue.has(s.id)).map((s) => s.id),
  )
})
function tone(s: Stone) {
  if (matches.value) return matches.value.has(s.id) ? 'ring-2 ring-ink' : 'opacity-30'
  if (j.level !== null && !j.stones.includes(s)) return 'opacity-30'
  const r = lit.value
  if (!r) return ''
  if (s.id === r.id) return 'ring-2 ring-saffron'
  return r.below.has(s.id) || r.above.has(s.id) ? 'ring-1 ring-saffron' : 'opacity-85'
}
const titleOf = (s: Stone) => {
  const title = kindOf(s.kind)?.title
  return typeof title === 'string' ? title : s.produces
}
const place = (s: Stone) => {
  const p = layout.value.get(s.id)!
  return { left: `${p.left}px`, width: `${p.width}px` }
}
const chosen = computed(() => (shown.chosen ? (j.byId.get(shown.chosen) ?? null) : null))

// The last stones are in sight, and whatever is chosen or found comes into sight.
const ground = ref<HTMLDivElement | null>(null)
const courtyard = ref<HTMLDivElement | null>(null)
function bringIn(id: string | undefined) {
  const p = id ? layout.value.get(id) : null
  const g = ground.value
  if (!p || !g) return
  if (p.left < g.scrollLeft || p.left + p.width > g.scrollLeft + g.clientWidth)
    g.scrollLeft = p.left - g.clientWidth / 2
}
watch(
  () => j.allStones.length,
  () => nextTick(() => ground.value && (ground.value.scrollLeft = ground.value.scrollWidth)),
  { immediate: true },
)
watch(
  () => shown.chosen,
  (id) => nextTick(() => bringIn(id ?? undefined)),
)
watch(matches, (m) => m && nextTick(() => bringIn([...m][0])))

// The level: drawn left to see the job as it was then.
const cord = computed(() => {
  if (j.level === null) return total.value - 30
  const seen = j.allStones.slice(0, j.level).map((s) => layout.value.get(s.id))
  return Math.max(20, ...seen.map((p) => (p ? p.left + p.width + 4 : 0)))
})
function pull(e: PointerEvent) {
  const el = e.currentTarget as HTMLElement
  el.setPointerCapture(e.pointerId)
  const move = (m: PointerEvent) => {
    const x = m.clientX - courtyard.value!.getBoundingClientRect().left
    setLevel(j.allStones.filter((s) => (layout.value.get(s.id)?.left ?? 0) + 20 < x).length)
  }
  el.addEventListener('pointermove', move)
  el.addEventListener('pointerup', () => el.removeEventListener('pointermove', move), { once: true })
}
const setLevel = (n: number) => (j.level = n >= j.allStones.length ? null : Math.max(1, n))
const at = computed(() => j.level ?? j.allStones.length)
function choose(s: Stone) {
  shown.chosen = shown.chosen === s.id ? null : s.id
}
</script>

<template>
  <footer
    class="relative shrink-0 border-t border-rule bg-wall"
    :style="{ height: `${9 + 25 * used.length}px` }"
    aria-label="Wall"
  >
    <div class="absolute inset-y-0 left-0 w-[88px] pt-1.5">
      <p v-for="c in used" :key="c" class="h-[25px] pl-3 text-[11.5px] leading-[22px] text-course">
        {{ c }}
      </p>
    </div>
    <div
      ref="ground"
      class="wall-ground absolute inset-y-0 left-[88px] right-0 overflow-x-auto overflow-y-hidden"
    >
      <div
        ref="courtyard"
        class="relative h-full pt-1.5"
        :style="{ width: `${total}px` }"
        @click.self="shown.chosen = null"
      >
        <div v-for="c in used" :key="c" class="relative h-[25px]">
          <button
            v-for="s in byCourse.get(c)"
            :key="s.id"
            class="wall-stone"
            :class="[COLOURS[c], FACE[s.status] ?? '', tone(s)]"
            :style="place(s)"
            :title="`${s.name}: ${s.says || s.status}. Double-click to change it.`"
            :aria-label="`${titleOf(s)} ${s.name}, ${s.status}`"
            :data-stone="s.name"
            @click="choose(s)"
            @dblclick="hand.takeBack(s)"
            @keydown.enter.prevent="hand.takeBack(s)"
          >
            {{ called(s) }}
          </button>
        </div>
        <div
          class="absolute inset-y-0 w-3 -translate-x-1/2 cursor-ew-resize"
          role="slider"
          tabindex="0"
          aria-label="Level"
          :aria-valuenow="at"
          :aria-valuemin="1"
          :aria-valuemax="j.allStones.length"
          title="Draw left to see the job as it was"
          :style="{ left: `${cord}px` }"
          @pointerdown="pull"
          @keydown.left.prevent="setLevel(at - 1)"
          @keydown.right.prevent="setLevel(at + 1)"
        >
          <svg width="12" height="8" class="block"><path d="M0 0h12L6 8z" fill="var(--color-ink)" /></svg>
          <span class="mx-auto block h-full w-0 border-l border-dashed border-ink" />
        </div>
      </div>
    </div>
    <div class="absolute bottom-1 right-2 flex items-center gap-1.5 bg-wall pl-2">
      <input
        v-if="j.allStones.length > MANY && !chosen"
        v-model="found"
        class="field !py-0.5"
        placeholder="Find on the wall"
        aria-label="Find on the wall"
        @keydown.esc.stop="found = ''"
      />
      <button
        v-if="j.allStones.length > MANY && canFold && !chosen"
        class="btn !py-0.5"
        :class="{ 'btn-on': closed }"
        :aria-pressed="closed"
        title="A sketch goes into the body it serves, a scan's earlier states into its last"
        @click="closed = !closed"
      >
        {{ closed ? 'Open' : 'Fold' }}
      </button>
      <ChosenActs v-if="chosen" :key="chosen.id" :stone="chosen" />
    </div>
  </footer>
</template>
