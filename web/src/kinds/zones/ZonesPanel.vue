<script setup lang="ts">
/** Zones with nothing in hand: the surfaces that were kept. */
import { computed } from 'vue'
import { useRoom } from '../../state/room'
import { laidZones } from './shown'
import ZoneList from './ZoneList.vue'

const room = useRoom()
const laid = computed(() => laidZones(room))
</script>

<template>
  <template v-if="laid">
    <p class="px-3.5 pt-3 text-soft">
      {{ laid.told.count }} surfaces cover
      <span class="fig">{{ (100 * laid.told.covered).toFixed(1) }} %</span> of the scan, which scatters
      <span class="fig">{{ laid.told.noise.toFixed(3) }}</span> mm. Point at one to see what it is; click it
      to make a datum of it.
    </p>
    <ZoneList :told="laid.told" />
  </template>
  <p v-else class="px-3.5 pt-3 text-soft">
    Nothing read yet. Read zones, or click a face to see what can be made of it.
  </p>
</template>
