<script setup lang="ts">
/** The Clean stage with nothing in hand: which scan is worked on, and what is wrong with it. */
import { isCloud } from '../../state/job'
import { useRoom } from '../../state/room'
import SurveyPanel from './SurveyPanel.vue'

const { job: j } = useRoom()
</script>

<template>
  <p v-if="j.tips.length > 1 && j.scan" class="px-3.5 pt-3 text-soft">
    Works on <b class="font-semibold text-ink">{{ j.byId.get(j.root(j.scan.id))?.name }}</b>; choose another
    in the yard.
  </p>
  <SurveyPanel v-if="j.scan && !isCloud(j.scan)" class="!border-t-0" />
</template>
