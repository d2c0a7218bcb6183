<script setup lang="ts">
/** Light ground or dark. */
import { Moon, Sun } from 'lucide-vue-next'
import { dark, swapTheme } from '../state/theme'

const says = dark ? 'On a light ground' : 'On a dark ground'
</script>

<template>
  <button class="text-soft hover:text-ink" :title="says" :aria-label="says" @click="swapTheme">
    <component :is="dark ? Sun : Moon" :size="15" />
  </button>
</template>
