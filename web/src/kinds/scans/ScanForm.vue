<script setup lang="ts">
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { useStep } from '../useStep'

const { r } = useStep<Schemas['ScanStep'], Schemas['CaptureTold']>()
const COLUMNS = ['x', 'y', 'z', 'nx', 'ny', 'nz', 'red', 'green', 'blue', 'intensity', 'skip']
const UNITS = ['mm', 'cm', 'm', 'in']
</script>

<template>
  <Head
    title="Scan"
    says="Read the same file again in another unit or with other columns; what rests on it follows."
  />
  <section class="section">
    <h3>Give</h3>
    <label class="mt-1.5 flex items-center gap-2"
      >unit
      <select v-model="r.units" class="field" aria-label="Unit of the file">
        <option v-for="u in UNITS" :key="u">{{ u }}</option>
      </select></label
    >
    <template v-if="r.layout">
      <p class="mt-2 text-soft">columns</p>
      <div class="mt-1 flex flex-wrap gap-1">
        <select
          v-for="(_, k) in r.layout.columns"
          :key="k"
          v-model="r.layout.columns[k]"
          class="field"
          :aria-label="`Column ${Number(k) + 1} holds`"
        >
          <option v-for="c in COLUMNS" :key="c">{{ c }}</option>
        </select>
      </div>
    </template>
  </section>
</template>
