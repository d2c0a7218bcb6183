<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { call } from './api/client'
import type { Who } from './api/types'
import Login from './shell/Login.vue'

const who = ref<Who | null>(null)
onMounted(async () => (who.value = await call<Who>('GET', '/session')))
</script>

<template>
  <Login v-if="who?.shared && !who.user" @done="who = $event" />
  <RouterView v-else-if="who" />
</template>
