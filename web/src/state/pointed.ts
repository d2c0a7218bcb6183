/** The tool that the pointer or the keyboard is on: what help is asked about with nothing in hand. */
import { defineStore } from 'pinia'
import { shallowRef } from 'vue'
import type { Tool } from '../kinds/kind'

export const usePointed = defineStore('pointed', () => {
  const tool = shallowRef<Tool | null>(null)
  return { tool }
})
