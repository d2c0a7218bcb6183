/** The belt: up to eight tools a person has pinned, on keys 1 to 8; kept in this browser. */
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { belt, keepBelt, toolOf } from '../kinds/registry'

export const useBelt = defineStore('belt', () => {
  const pinned = ref(belt())
  const tools = computed(() => pinned.value.map(toolOf).filter((t) => t !== undefined))
  function pin(id: string) {
    const had = pinned.value.includes(id)
    pinned.value = had ? pinned.value.filter((x) => x !== id) : [...pinned.value, id].slice(0, 8)
    keepBelt(pinned.value)
  }
  const has = (id: string) => pinned.value.includes(id)
  /** On which key it lies, from 1; 0 where it is not on the belt. */
  const place = (id: string) => pinned.value.indexOf(id) + 1
  return { pinned, tools, pin, has, place }
})
