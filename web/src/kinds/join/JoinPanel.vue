<script setup lang="ts">
/** The Join stage with nothing in hand: how the scans stand to each other. */
import { computed } from 'vue'
import { useRoom } from '../../state/room'
import { placementNow } from '../../view3d/plan'
import LinkTable from './LinkTable.vue'
import { useNames } from './useNames'
import ShownAs from './ShownAs.vue'

const room = useRoom()
const { job: j, shown } = room
const now = computed(() => placementNow(room))
const { nameOf, numberOf } = useNames()
const p = computed(() => now.value?.told ?? null)
const laid = computed(() => now.value?.stone ?? null)
const waiting = computed(() => (p.value ? j.joinScans.filter((s) => !p.value!.motions[s.id]) : []))
</script>

<template>
  <section v-if="!shown.proof" class="section !border-t-0" aria-label="Join">
    <h2>{{ laid ? laid.name : 'Not yet joined' }}</h2>
    <p v-if="!p && j.joinScans.length > 1" class="mt-1 text-soft">
      {{ j.joinScans.length }} scans, each in coordinates of its own. Match them by themselves, or by pairs of
      places.
    </p>
    <p v-else-if="!p" class="mt-1 text-soft">
      Several scans of one part are brought together here. Bring the others in Scans.
    </p>
    <template v-else>
      <p class="mt-1">
        <b class="fig font-semibold" data-figure="placed">{{ Object.keys(p.motions).length }}</b>
        placed<template v-if="p.rms !== null"
          >, <span class="fig" data-figure="rms">{{ p.rms.toFixed(3) }}</span> mm apart (rms)</template
        >
      </p>
      <LinkTable v-if="p.links.length" :links="p.links" :scans="Object.keys(p.motions)" />
      <p v-if="waiting.length" class="note mt-1.5">
        Not placed: {{ waiting.map((s) => `${numberOf(s.id)} ${nameOf(s.id)}`).join(', ') }}.
      </p>
      <p v-for="x in p.refused ?? []" :key="x.scan" class="mt-1 text-soft">
        {{ numberOf(x.scan) }}: {{ x.why }}
      </p>
      <ShownAs v-if="j.merged || p.links.length" :mesh="!!j.merged" />
    </template>
  </section>
</template>
