<script setup lang="ts">
import type { Schemas } from '../../api/types'
import Head from '../../bench/Head.vue'
import { whole } from '../../state/format'
import { useStep } from '../useStep'
import SurveyPanel from './SurveyPanel.vue'
import { useSurvey } from './useSurvey'

const { hand, told: s } = useStep<Schemas['RepairStep'], Schemas['RepairTold']>()
const survey = useSurvey()
if (!survey.fresh) survey.look()
if (!hand.preview) hand.tryIt(0)
</script>

<template>
  <Head title="Repair" says="The ticked kinds are repaired together; the rest of the mesh stays as it is." />
  <SurveyPanel repairing />
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <button v-if="!s && !hand.previewing" class="btn mt-1.5 w-full" @click="hand.tryIt(0)">
      See what the repair gives
    </button>
    <template v-if="s">
      <ul class="mt-1.5">
        <li v-for="d in s.did" :key="d.what" class="flex justify-between">
          <span>{{ d.what }}</span><span class="fig">{{ whole(d.count) }}</span>
        </li>
        <li v-if="!s.did.length" class="text-soft">Nothing of this kind was found.</li>
      </ul>
      <p class="mt-2 border-t border-rule pt-1.5">
        <span class="text-soft">still wrong afterwards: </span><span data-figure="still">{{ s.still }}</span>
      </p>
    </template>
  </section>
</template>
