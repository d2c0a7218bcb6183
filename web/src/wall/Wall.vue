<script setup lang="ts">
/** The wall: the recipe as masonry, four courses and checks above, each stone right of what it rests on. */
import { computed, ref } from 'vue'
import type { Stone } from '../api/client'
import { useJob } from '../state/job'

const j = useJob()
const COURSES = [
  { key: 'checks', colour: 'bg-[#e3e0da] border-[#a9a59c]' },
  { key: 'bodies', colour: 'bg-[#c3cfdc] border-[#8ea3b8]' },
  { key: 'sketches', colour: 'bg-[#bcc7d8] border-[#8795ad]' },
  { key: 'datums', colour: 'bg-[#dac1d4] border-[#b591ac]' },
  { key: 'scan', colour: 'bg-[#e6d8b7] border-[#c2ae83]' },
]
const UNIT = 7.1
const width = (s: Stone) => Math.max(62, Math.min(150, s.name.length * UNIT + 20))
const layout = computed(() => {
  const right = new Map<string, number>()
  const end: Record<string, number> = {}
  const out = new Map<string, { left: number; width: number }>()
  for (const s of j.allStones) {
    // A stone overlaps what it rests on by all but a step, so that the wall stays short.
    const under = Math.max(0, ...s.inputs.filter((i) => j.byId.get(i)?.course !== s.course).map((i) => (right.get(i) ?? 0)))
    const left = Math.max(end[s.course] ?? 0, under - 24, 0)
    const w = width(s)
    out.set(s.id, { left, width: w })
    right.set(s.id, left + w)
    end[s.course] = left + w + 3
  }
  return out
})
const total = computed(() => Math.max(400, ...[...layout.value.values()].map((p) => p.left + p.width + 40)))
const related = computed(() => {
  const id = j.chosenStone ?? (j.hand?.editing ? j.hand.record.id : null)
  if (!id) return null
  const below = new Set<string>(), above = new Set<string>()
  const down = (i: string) => j.byId.get(i)?.inputs.forEach((k) => { if (!below.has(k)) { below.add(k); down(k) } })
  down(id)
  let grew = true
  while (grew) {
    grew = false
    for (const s of j.allStones) if (!above.has(s.id) && s.inputs.some((i) => i === id || above.has(i))) { above.add(s.id); grew = true }
  }
  return { id, below, above }
})
const FACE: Record<string, string> = {
  attention: '!border-rust !bg-warn', failed: '!border-brick !bg-[#ecd0cd]', waiting: '!border-dashed !bg-transparent', pending: '!border-dashed opacity-70', off: 'opacity-40 line-through',
}
const tone = (s: Stone) => {
  const r = related.value
  if (!r) return ''
  if (s.id === r.id) return 'ring-2 ring-saffron'
  return r.below.has(s.id) || r.above.has(s.id) ? 'ring-1 ring-saffron' : 'opacity-85'
}
const chosen = computed(() => (j.chosenStone ? j.byId.get(j.chosenStone) : null))

// The level: drawn left to see the job as it was then.
const courtyard = ref<HTMLDivElement | null>(null)
const cord = computed(() => {
  if (j.level === null) return total.value - 30
  const seen = j.allStones.slice(0, j.level).map((s) => layout.value.get(s.id)!)
  return Math.max(20, ...seen.map((p) => p.left + p.width + 4))
})
function pull(e: PointerEvent) {
  const el = e.currentTarget as HTMLElement
  el.setPointerCapture(e.pointerId)
  const move = (m: PointerEvent) => {
    const x = m.clientX - courtyard.value!.getBoundingClientRect().left
    const n = j.allStones.filter((s) => layout.value.get(s.id)!.left + 20 < x).length
    setLevel(Math.max(1, n))
  }
  el.addEventListener('pointermove', move)
  el.addEventListener('pointerup', () => el.removeEventListener('pointermove', move), { once: true })
}
const setLevel = (n: number) => (j.level = n >= j.allStones.length ? null : Math.max(1, n))
</script>

<template>
  <footer class="relative h-[134px] shrink-0 border-t border-rule bg-wall" aria-label="Wall">
    <div class="absolute inset-y-0 left-0 w-[88px] pt-1.5">
      <p v-for="c in COURSES" :key="c.key" class="h-[25px] pl-3 text-[11.5px] leading-[22px] text-[#4f4a43]">{{ c.key }}</p>
    </div>
    <div class="absolute inset-y-0 left-[88px] right-0 overflow-x-auto overflow-y-hidden">
      <div ref="courtyard" class="relative h-full pt-1.5" :style="{ width: `${total}px` }" @click.self="j.chosenStone = null">
        <div v-for="c in COURSES" :key="c.key" class="relative h-[25px]">
          <button
            v-for="s in j.allStones.filter((x) => x.course === c.key)" :key="s.id"
            class="absolute h-[22px] truncate rounded-[2px] border px-2 text-left text-[11.5px] leading-[20px]"
            :class="[c.colour, FACE[s.status] ?? '', tone(s), j.level !== null && !j.stones.includes(s) ? 'opacity-30' : '']"
            :style="{ left: `${layout.get(s.id)!.left}px`, width: `${layout.get(s.id)!.width}px` }"
            :title="`${s.name}: ${s.says || s.status}. Double-click to change it.`" :aria-label="`${s.title} ${s.name}, ${s.status}`" :data-stone="s.name"
            @click="j.chosenStone = j.chosenStone === s.id ? null : s.id" @dblclick="j.takeBack(s)" @keydown.enter.prevent="j.takeBack(s)"
          >{{ s.name }}</button>
        </div>
        <div
          class="absolute inset-y-0 w-3 -translate-x-1/2 cursor-ew-resize" role="slider" tabindex="0" aria-label="Level" :aria-valuenow="j.level ?? j.allStones.length" :aria-valuemin="1" :aria-valuemax="j.allStones.length"
          title="Draw left to see the job as it was" :style="{ left: `${cord}px` }" @pointerdown="pull"
          @keydown.left.prevent="setLevel((j.level ?? j.allStones.length) - 1)" @keydown.right.prevent="setLevel((j.level ?? j.allStones.length) + 1)"
        >
          <svg width="12" height="8" class="block"><path d="M0 0h12L6 8z" fill="#23262A" /></svg>
          <span class="mx-auto block h-full w-0 border-l border-dashed border-ink" />
        </div>
      </div>
    </div>
    <div v-if="chosen" class="absolute bottom-1 right-2 flex items-center gap-1.5 bg-wall pl-2">
      <span v-if="chosen.says" class="max-w-[420px] truncate text-[11.5px]" :class="chosen.status === 'failed' ? 'text-brick' : 'text-rust'" :title="chosen.says">{{ chosen.says }}</span>
      <button class="btn !py-0.5" @click="j.takeBack(chosen)">Change</button>
      <button class="btn !py-0.5" @click="j.act('POST', `/stones/${chosen.id}/switch`)">{{ chosen.enabled ? 'Switch off' : 'Switch on' }}</button>
      <button class="btn !py-0.5" @click="j.act('DELETE', `/stones/${chosen.id}`).then((ok) => ok && (j.chosenStone = null))">Take out</button>
    </div>
  </footer>
</template>
