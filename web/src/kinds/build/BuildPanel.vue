<script setup lang="ts">
/** What the stage proposes by itself: a whole first model, or a feature of zones. */
import DraftPanel from './DraftPanel.vue'
import ProposalsPanel from './ProposalsPanel.vue'
</script>

<template>
  <div>
    <DraftPanel />
    <ProposalsPanel />
  </div>
</template>
