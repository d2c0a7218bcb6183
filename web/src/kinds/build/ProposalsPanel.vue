<script setup lang="ts">
/** Zones are picked, features proposed of them, looked at over the scan, and laid as ordinary stones. */
import { computed, onUnmounted, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Working from '../../bench/Working.vue'
import { short } from '../../state/format'
import { useRoom } from '../../state/room'
import { useStudy } from '../../state/studies'
import { allTools } from '../registry'
import { pickZone, pickZones, proposing, zonesOf } from './proposing'

const room = useRoom()
const { job: j, hand } = room
const { running, error, run, stop } = useStudy<Schemas['ProposalsView']>('/proposals')
const zones = computed(() => zonesOf(room))
const offered = computed(() => !!j.scan && !!j.frame && !!j.job)
const reads = computed(() => allTools().find((t) => t.stage === 'Zones'))
// Other zones are picked anew; the same, away while the job runs again, are not.
let pickedOf = ''
watch(
  () => (zones.value ? `${j.job?.id} ${zones.value.key}` : pickedOf),
  (now) => {
    if (pickedOf) {
      pickZones(false)
      stop()
    }
    pickedOf = now
  },
  { immediate: true },
)
onUnmounted(() => pickZones(false))
async function ask() {
  proposing.found = null
  const body = { scan: j.scan!.id, frame: j.frame!.id, zones: zones.value!.id, picked: proposing.picked }
  const got = await run({ ...body, body: j.body?.id ?? null })
  if (!got) return
  Object.assign(proposing, { found: got.proposals, looked: 0 })
}
async function lay(k: number) {
  const p = proposing.found![k]
  if (await j.act('POST', '/draft/laid', { label: `Lay ${p.steps.at(-1)!.name}`, steps: p.steps }))
    pickZones(true)
}
const nameOf = (k: number) => zones.value?.told.zones[k]?.name ?? ''
const areaOf = (k: number) => short(Math.round(zones.value?.told.zones[k]?.area ?? 0))
const percent = (p: { explains: number }) => `${(100 * Math.min(1, p.explains)).toFixed(1)} %`
</script>

<template>
  <section v-if="offered" class="section" aria-label="Features of zones">
    <h3>Features of zones</h3>
    <template v-if="!zones">
      <p class="mt-1.5 text-soft">Read the zones of the scan, and pick those that a feature is made of.</p>
      <button v-if="reads" class="btn mt-2 w-full" @click="hand.start(reads)">Read zones</button>
    </template>
    <template v-else-if="!proposing.on">
      <p class="mt-1.5 text-soft">
        Pick walls, floors, bores, bends or roundings on the scan, and get the feature that makes them.
      </p>
      <button class="btn mt-2 w-full" @click="pickZones(true)">Pick zones</button>
    </template>
    <template v-else>
      <p v-if="!proposing.picked.length" class="mt-1.5 text-soft">
        Click surfaces on the scan; with none, what is not modelled yet is sought on the whole part: tubes,
        threads, holes, chamfers, roundings, the other half.
      </p>
      <ul v-else class="mt-1.5" aria-label="Picked zones">
        <li v-for="k in proposing.picked" :key="k" class="flex items-baseline gap-2 py-[2px]">
          <span class="h-[11px] w-[11px] shrink-0 self-center rounded-[2px] bg-saffron" />
          <span class="min-w-0 flex-1 truncate">{{ nameOf(k) }}</span>
          <span class="fig text-soft">{{ areaOf(k) }} mm²</span>
          <button class="text-soft underline" :aria-label="`Leave ${nameOf(k)}`" @click="pickZone(k)">
            leave
          </button>
        </li>
      </ul>
      <Working v-if="running" :at="running" @stop="stop" />
      <div v-else class="mt-2 flex gap-1.5">
        <button class="btn flex-1" :class="{ '!bg-ink !text-sheet': !proposing.found }" @click="ask">
          Propose features
        </button>
        <button class="btn" @click="pickZones(false)">Close</button>
      </div>
      <p v-if="proposing.found && !proposing.found.length" class="mt-2 text-soft">
        Nothing that is known can be made of these. Pick walls that belong together, with what ends them.
      </p>
      <ol v-if="proposing.found?.length" class="mt-2 space-y-1.5" aria-label="Proposals">
        <li v-for="(p, k) in proposing.found" :key="k">
          <button
            class="offer"
            :class="{ 'offer-first': proposing.looked === k }"
            :aria-pressed="proposing.looked === k"
            @click="proposing.looked = k"
          >
            <span class="flex items-baseline justify-between gap-2">
              <b class="min-w-0 truncate font-semibold">{{ p.title }}</b>
              <span class="fig shrink-0" data-figure="explains">{{ percent(p) }}</span>
            </span>
            <span v-if="proposing.looked === k" class="block text-soft">
              <span v-for="s in p.says" :key="s" class="block">{{ s }}</span>
              <span class="block">
                {{ p.steps.map((s) => s.name).join(', ') }};
                {{
                  p.left < 1
                    ? 'nothing of it is left'
                    : `${short(Math.round(p.left))} mm² of it stay unexplained`
                }}
              </span>
            </span>
          </button>
        </li>
      </ol>
      <button
        v-if="proposing.found?.length"
        class="btn mt-2 w-full !bg-ink !text-sheet"
        :disabled="j.busy"
        @click="lay(proposing.looked)"
      >
        Lay {{ proposing.found[proposing.looked].steps.at(-1)!.name }}
      </button>
    </template>
    <p v-if="error" class="note mt-1.5" role="alert">{{ error }}</p>
  </section>
</template>
