<script setup lang="ts">
import { computed } from 'vue'
import SurveyPanel from '../clean/SurveyPanel.vue'
import { useSurvey } from '../clean/survey'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const survey = useSurvey()
if (!survey.fresh) survey.run()
if (!j.preview) j.tryIt(0)
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
</script>

<template>
  <Head title="Repair" says="The ticked kinds are repaired together; the rest of the mesh stays as it is." />
  <SurveyPanel repairing />
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <button v-if="!s && !j.previewing" class="btn mt-1.5 w-full" @click="j.tryIt(0)">See what the repair gives</button>
    <template v-if="s">
      <ul class="mt-1.5">
        <li v-for="d in s.did" :key="d.what" class="flex justify-between"><span>{{ d.what }}</span><span class="fig">{{ d.count.toLocaleString('en') }}</span></li>
        <li v-if="!s.did.length" class="text-soft">Nothing of this kind was found.</li>
      </ul>
      <p class="mt-2 border-t border-rule pt-1.5"><span class="text-soft">still wrong afterwards: </span><span data-figure="still">{{ s.still }}</span></p>
    </template>
  </section>
</template>
