<script setup lang="ts">
/** Which faces, steps, zones and places are farthest off; a row lights its part in the view and its stone. */
import { computed, ref } from 'vue'
import type { Schemas } from '../../api/types'
import { partWords, stepOf, useProving, type DeviationTold } from '../../check/proving'
import { mm, signed } from '../../state/format'
import { useRoom } from '../../state/room'

const props = defineProps<{ told: DeviationTold }>()
const { job: j, shown } = useRoom()
const p = useProving()
type Row = Schemas['RowTold']
const WAYS = ['faces', 'steps', 'zones', 'places'] as const
const way = ref<(typeof WAYS)[number]>('faces')
const there = computed(() =>
  WAYS.filter((w) => (w === 'places' ? props.told.regions.length : props.told[w].length)),
)
const now = computed(() => (there.value.includes(way.value) ? way.value : there.value[0]))
const MOST = 10
const FEW = 20 // places
const all = ref(false)
const ranked = computed<Row[]>(() => {
  if (!now.value || now.value === 'places') return []
  const rows = props.told[now.value].filter((r) => r.points)
  // Parts that few places answered say little, and come last.
  const worse = (r: Row) => (r.points < FEW ? -1 : 1 - (r.within ?? 1))
  return [...rows].sort((a, b) => worse(b) - worse(a) || (b.p95 ?? 0) - (a.p95 ?? 0))
})
const rows = computed(() => (all.value ? ranked.value : ranked.value.slice(0, MOST)))
function chooseStone(face: string) {
  const stone = j.allStones.find((s) => s.name === stepOf(face))
  if (stone && !shown.proof) shown.chosen = stone.id
}
function light(r: Row) {
  if (p.lit?.words === r.face) return void (p.lit = null)
  const steps = now.value === 'steps'
  const parts = steps ? props.told.faces.map((f) => f.face).filter((f) => stepOf(f) === r.face) : [r.face]
  p.lit = now.value === 'zones' ? null : { words: r.face, parts }
  shown.show.tide = true
  if (now.value === 'zones') look(r.place)
  else chooseStone(r.face)
}
function look(place: number[] | null | undefined) {
  if (place) shown.lookAt(place, 0.25 * (props.told.size || 40), true)
}
const words = (r: Row) => (now.value === 'faces' ? partWords(r.face) : r.face)
/** The step whose faces hold most of what lies out of tolerance, where one stands out. */
const blamed = computed(() => {
  const by = new Map<string, number>()
  for (const r of props.told.regions) by.set(stepOf(r.face), (by.get(stepOf(r.face)) ?? 0) + r.places)
  const sum = [...by.values()].reduce((a, b) => a + b, 0)
  const best = [...by].sort((a, b) => b[1] - a[1])[0]
  return best && by.size > 1 && best[1] > 0.4 * sum ? { step: best[0], share: best[1] / sum } : null
})
</script>

<template>
  <section v-if="now" class="section" aria-label="Who is to blame">
    <div class="flex items-baseline justify-between gap-2">
      <h3>Least within</h3>
      <div class="flex gap-1" role="group" aria-label="Told by">
        <button
          v-for="w in there"
          :key="w"
          class="rounded-sm px-1.5 text-[11.5px]"
          :class="now === w ? 'bg-ink text-sheet' : 'text-soft hover:text-ink'"
          :aria-pressed="now === w"
          @click="way = w"
        >
          {{ w }}
        </button>
      </div>
    </div>
    <ol v-if="now === 'places'" class="mt-1" aria-label="Worst places">
      <li v-for="(r, k) in told.regions" :key="k">
        <button
          class="flex w-full items-baseline gap-2 py-0.5 text-left hover:bg-ground"
          :title="`${r.places} places, ${r.area.toFixed(1)} mm²`"
          @click="(look(r.place), chooseStone(r.face))"
        >
          <span class="fig w-[58px] shrink-0 text-right">{{ signed(r.worst) }}</span>
          <span class="min-w-0 flex-1 truncate">{{ partWords(r.face) }}</span>
          <span class="fig text-soft">{{ r.area ? `${r.area.toFixed(1)} mm²` : r.places }}</span>
        </button>
      </li>
    </ol>
    <table v-else class="mt-1 w-full table-fixed text-[11.5px]">
      <thead class="text-soft">
        <tr>
          <th class="text-left font-normal">{{ now.slice(0, -1) }}</th>
          <th class="w-[52px] text-right font-normal">mean</th>
          <th class="w-[50px] text-right font-normal">95 %</th>
          <th class="w-[52px] text-right font-normal">worst</th>
          <th class="w-[34px] text-right font-normal">in %</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="r in rows"
          :key="r.face"
          class="cursor-pointer hover:bg-ground"
          :class="{ '!bg-held': p.lit?.words === r.face }"
          :title="`${r.face}, ${r.kind}, ${r.points} points, spread ${mm(r.spread)}, ${r.verdict}`"
          @click="light(r)"
        >
          <td class="py-0.5">
            <button class="block w-full truncate text-left" :aria-pressed="p.lit?.words === r.face">
              {{ words(r) }}
            </button>
          </td>
          <td class="fig text-right">{{ signed(r.mean) }}</td>
          <td class="fig text-right">{{ mm(r.p95) }}</td>
          <td class="fig text-right">{{ signed(r.worst) }}</td>
          <td class="fig text-right">{{ Math.round(100 * (r.within ?? 0)) }}</td>
        </tr>
      </tbody>
    </table>
    <button v-if="now !== 'places' && ranked.length > MOST" class="mt-1 underline" @click="all = !all">
      {{ all ? 'Only the farthest' : `All ${ranked.length}` }}
    </button>
    <p v-if="blamed" class="note mt-2" data-blamed>
      {{ Math.round(100 * blamed.share) }} % of what lies out of tolerance is on <b>{{ blamed.step }}</b>.
    </p>
  </section>
</template>
