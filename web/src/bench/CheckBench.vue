<script setup lang="ts">
import { computed } from 'vue'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const bodies = computed(() => j.stones.filter((s) => s.produces === 'body' && j.done(s)))
</script>

<template>
  <Head title="Deviation map" says="Every point of the scan against the model's true surface." />
  <section class="section space-y-2">
    <h3>Give</h3>
    <label class="slot"><span class="w-[76px] text-soft">model after</span><select v-model="r.body" class="min-w-0 flex-1 bg-transparent font-semibold"><option v-for="b in bodies" :key="b.id" :value="b.id">{{ b.name }}</option></select></label>
    <label class="flex items-center justify-between">tolerance ± <span><input v-model.number="r.tolerance" type="number" min="0.001" step="0.01" class="field fig w-[84px]" /> mm</span></label>
    <label class="flex items-center justify-between">reach <span><input v-model.number="r.reach" type="number" min="0.01" step="0.1" class="field fig w-[84px]" /> mm</span></label>
    <label class="flex items-center justify-between">angle <span><input v-model.number="r.angle_deg" type="number" min="1" max="180" step="1" class="field fig w-[84px]" /> °&nbsp;&nbsp;</span></label>
    <p class="text-soft">Points farther off than the reach, or turned away more than the angle, are not answered.</p>
  </section>
</template>
