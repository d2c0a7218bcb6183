<script setup lang="ts">
/** Pieces of the same part, those that differ most first, and every value over them all. */
import { Download, Trash2, X } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { mm, pm, short, signed } from '../state/format'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import { usePieces, type PieceLine, type SizeLine } from './pieces'
import StripPlot from './StripPlot.vue'

const j = useJob()
const shown = useShown()
const p = usePieces()
const router = useRouter()
const only = ref(false)
const running = computed(() => j.running.find((t) => t.label.includes('pieces')) ?? null)
const apart = (s: SizeLine) => s.agreement === 'differs' || s.agreement === 'most'
const rows = computed(() => p.sizes.filter((s) => !only.value || apart(s)))
const count = (...what: string[]) => p.sizes.filter((s) => what.includes(s.agreement)).length
const name = (id: number) => (p.pieces.find((q) => q.id === id)?.name ?? '').replace(/\.[^.]+$/, '')
const stem = (q: PieceLine) => q.name.replace(/\.[^.]+$/, '')
/** A name in parts between which a line may break. */
const parts = (name: string) => name.split(/(?<=[._])/)
const unit = (s: SizeLine) => (s.unit === 'deg' ? '°' : '')
const FATE: Record<string, [string, string]> = {
  waiting: ['waits', 'bg-rule'],
  done: ['sound', 'bg-moss'],
  attention: ['look at it', 'bg-rust'],
  failed: ['failed', 'bg-brick'],
}
function says(s: SizeLine): string {
  if (s.agreement === 'same') return 'the same on all'
  if (s.agreement === 'alone') return 'on one piece only'
  if (s.agreement === 'most') return `apart: ${s.apart.map(name).join(', ')}`
  return `differs by ${short(s.high - s.low)}${unit(s)}`
}
function offer(s: SizeLine, e: Event) {
  p.ticked.set(s.name, Number((e.target as HTMLSelectElement).value))
}
async function openPiece(q: PieceLine) {
  const { id } = await p.ownJob(q)
  shown.pieces = false
  router.push(`/jobs/${id}`)
}
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col bg-sheet" aria-label="Pieces">
    <header class="flex items-center gap-2.5 px-3 py-1.5">
      <h2 class="whitespace-nowrap">{{ p.pieces.length }} pieces</h2>
      <p v-if="p.sizes.length" class="truncate text-soft" data-figure="shared">
        {{ count('same') }} sizes the same on all: the design · {{ count('differs') }} differ<template
          v-if="count('most')"
        >
          · {{ count('most') }} apart on some</template
        >
      </p>
      <span class="flex-1" />
      <a v-if="p.sizes.length" class="btn !px-2 !py-0.5" :href="`/api/jobs/${j.job!.id}/pieces.csv`" download
        ><Download :size="13" /> Table</a
      >
      <button class="btn !px-1.5 !py-0.5" aria-label="Close the pieces" @click="shown.pieces = false">
        <X :size="14" />
      </button>
    </header>
    <div v-if="running" class="flex items-center gap-2 px-3 pb-1.5" role="status">
      <span class="h-1 w-32 bg-rule"
        ><span class="block h-1 bg-saffron" :style="{ width: `${100 * running.progress}%` }"
      /></span>
      <span class="truncate text-soft">{{ running.message }}</span>
      <button class="btn !py-0.5" @click="j.act('POST', `/tasks/${running.id}/cancel`)">Stop</button>
    </div>
    <p v-else-if="p.view?.stale" class="note mx-3 mb-1.5 flex items-center gap-2">
      <span class="flex-1"
        >{{ p.view.stale }} {{ p.view.stale === 1 ? 'piece was' : 'pieces were' }} not run with the recipe as
        it is.</span
      >
      <button class="btn !py-0.5" @click="p.run">Run the recipe on them</button>
    </p>
    <p v-if="p.error" class="note-bad mx-3 mb-1.5" role="alert">{{ p.error }}</p>
    <div class="max-h-[34%] shrink-0 overflow-auto border-y border-rule">
      <table class="w-full border-collapse text-[12px]" aria-label="The pieces">
        <thead
          class="sticky top-0 bg-sheet text-left text-[11.5px] text-soft [&_th]:px-1.5 [&_th]:font-medium"
        >
          <tr>
            <th class="!pl-3">piece</th>
            <th>farthest from the others in</th>
            <th class="text-right">by</th>
            <th class="text-right" title="95 % of its scan lies nearer to the model">95 % within</th>
            <th class="text-right">in tolerance</th>
            <th />
          </tr>
        </thead>
        <tbody class="[&_td]:px-1.5 [&_td]:py-[3px]">
          <tr
            v-for="q in p.pieces"
            :key="q.id"
            class="cursor-pointer border-t border-dotted border-rule hover:bg-white"
            :class="{ 'bg-held': q.id === p.on?.id }"
            :data-piece="q.name"
            @click="p.chosen = q.id"
          >
            <td class="max-w-[190px] truncate !pl-3">
              <button class="flex max-w-full items-center gap-1.5" :aria-pressed="q.id === p.on?.id">
                <i class="h-2.5 w-2.5 shrink-0" :class="FATE[q.status][1]" :title="FATE[q.status][0]" />
                <span class="truncate">{{ stem(q) }}</span>
              </button>
            </td>
            <template v-if="q.by && q.status !== 'failed'">
              <td class="fig">{{ q.by }}</td>
              <td class="fig text-right" :title="'in what measuring explains'">{{ q.apart.toFixed(1) }} ×</td>
            </template>
            <td v-else colspan="2" class="max-w-[260px] truncate text-soft" :title="q.says">
              {{ q.says || FATE[q.status][0] }}
            </td>
            <td class="fig text-right">{{ q.check?.p95 == null ? '' : mm(q.check.p95, 3, shown.inches) }}</td>
            <td class="fig text-right">
              {{ q.check?.within == null ? '' : `${(100 * q.check.within).toFixed(1)} %` }}
            </td>
            <td class="whitespace-nowrap text-right">
              <button class="underline" @click.stop="openPiece(q)">As a job</button>
              <button class="ml-2 align-middle" :aria-label="`Take out ${q.name}`" @click.stop="p.takeOut(q)">
                <Trash2 :size="13" />
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-if="p.sizes.length" class="flex items-center gap-2 px-3 py-1.5">
      <h3>Sizes</h3>
      <label class="flex items-center gap-1.5"
        ><input v-model="only" type="checkbox" class="accent-ink" /> only what differs</label
      >
      <span class="flex-1" />
      <button class="btn !py-0.5" @click="p.tickShared">Tick all that are shared</button>
      <button class="btn btn-on !py-0.5" :disabled="!p.ticked.size" @click="p.layNominal">
        Lay the nominal of {{ p.ticked.size }}
      </button>
    </div>
    <div class="min-h-0 flex-1 overflow-auto">
      <table class="w-full border-collapse text-[12px]" aria-label="Sizes over the pieces">
        <thead class="sticky top-0 bg-sheet text-[11.5px] text-soft [&_th]:px-1.5 [&_th]:font-medium">
          <tr>
            <th class="w-7" />
            <th class="text-left">value</th>
            <th class="text-left">every piece</th>
            <th class="text-right">mean ± spread</th>
            <th class="text-left">over the pieces</th>
            <th class="text-right">{{ p.on ? stem(p.on) : '' }}</th>
            <th class="text-right">chosen</th>
            <th class="!pr-3 text-left">nominal</th>
          </tr>
        </thead>
        <tbody class="[&_td]:px-1.5 [&_td]:py-[2px]">
          <tr
            v-for="s in rows"
            :key="s.name"
            class="border-t border-dotted border-rule hover:bg-white"
            :data-size="s.name"
          >
            <td class="!pl-3">
              <input
                type="checkbox"
                class="accent-ink align-middle"
                :disabled="s.fixed"
                :title="s.fixed ? 'Measured, not chosen' : undefined"
                :checked="p.ticked.has(s.name)"
                :aria-label="`Give ${s.name} its nominal`"
                @change="p.tick(s)"
              />
            </td>
            <td class="fig max-w-[150px] leading-tight" :title="s.label">
              <template v-for="(part, k) in parts(s.name)" :key="k">{{ part }}<wbr /></template>
            </td>
            <td><StripPlot :size="s" :pieces="p.pieces" :on="p.on?.id ?? null" /></td>
            <td class="fig whitespace-nowrap text-right">
              {{ mm(s.mean, 3, shown.inches && !unit(s)) }}{{ unit(s) }}
              <span class="text-soft">{{ pm(s.spread / (shown.inches && !unit(s) ? 25.4 : 1)) }}</span>
            </td>
            <td class="max-w-[124px] truncate" :class="apart(s) ? 'text-rust' : 'text-soft'" :title="says(s)">
              {{ says(s) }}
            </td>
            <td
              class="fig text-right"
              :title="p.on && s.name in p.on.values ? signed(p.on.values[s.name] - s.mean) : ''"
            >
              {{
                p.on && s.name in p.on.values
                  ? mm(p.on.values[s.name], 3, shown.inches && !unit(s)) + unit(s)
                  : ''
              }}
            </td>
            <td class="fig text-right">{{ short(s.chosen) }}{{ unit(s) }}</td>
            <td class="!pr-3">
              <span v-if="s.fixed" class="text-soft">measured</span>
              <select
                v-else
                class="field fig w-[150px] !px-1 !py-0"
                :value="p.ticked.get(s.name) ?? s.offers[0]?.value"
                :aria-label="`Nominal of ${s.name}`"
                @change="offer(s, $event)"
              >
                <option v-for="o in s.offers" :key="o.value" :value="o.value">
                  {{ short(o.value) }} {{ o.why }}
                </option>
              </select>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="!p.sizes.length && !running" class="px-3 py-4 text-soft">
        No piece has been measured yet. Bring in scans of other pieces of this part, on the right.
      </p>
    </div>
  </section>
</template>
