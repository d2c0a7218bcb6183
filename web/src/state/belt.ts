/** The belt: up to eight tools a person has pinned, on keys 1 to 8; kept in this browser. */
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { belt, keepBelt, toolOf, used } from '../kinds/registry'

const OFTEN = 4 // times a tool is taken up before it is suggested

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
  /** Counted anew when the bench comes back from a tool. */
  const counts = ref(used())
  const look = () => (counts.value = used())
  const refused = ref(new Set<string>())
  /** The tool off the belt that is used most, and, where it is full, the one on it that is used least. */
  const often = computed(() => {
    const off = Object.entries(counts.value)
      .filter(([id, n]) => n >= OFTEN && !pinned.value.includes(id) && !refused.value.has(id))
      .sort((a, b) => b[1] - a[1])[0]
    const tool = off && toolOf(off[0])
    if (!tool) return null
    const least = [...pinned.value].sort((a, b) => (counts.value[a] ?? 0) - (counts.value[b] ?? 0))[0]
    const full = pinned.value.length >= 8
    if (full && (counts.value[least] ?? 0) >= off[1]) return null
    return { tool, instead: full ? (toolOf(least) ?? null) : null }
  })
  /** Put the tool used most on the belt, in the place of the one used least where it is full. */
  function takeOften() {
    const o = often.value
    if (!o) return
    const at = o.instead ? pinned.value.indexOf(o.instead.id) : pinned.value.length
    pinned.value = [...pinned.value.slice(0, at), o.tool.id, ...pinned.value.slice(at + 1)].slice(0, 8)
    keepBelt(pinned.value)
  }
  const leaveOften = () => often.value && (refused.value = new Set([...refused.value, often.value.tool.id]))
  return { pinned, tools, pin, has, place, look, often, takeOften, leaveOften }
})
