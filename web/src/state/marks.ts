/** The marking tool: what the next mark is made by and how it joins; the same wherever something is picked. */
import { defineStore } from 'pinia'
import { ref } from 'vue'

export const MARK_RULES = ['brush', 'outline', 'whole island', 'same facing', 'same bend', 'up to a crease', 'similar pieces'] as const
export type MarkRule = (typeof MARK_RULES)[number]
export const MARK_SAYS: Record<MarkRule, string> = {
  brush: 'Drag over the surface', outline: 'Draw around it', 'whole island': 'Click a connected piece', 'same facing': 'Click; it spreads while it faces the same way',
  'same bend': 'Click; it spreads over one bend', 'up to a crease': 'Click; it spreads up to sharp edges', 'similar pieces': 'Click a piece; all of about its size follow',
}
export const ANGLES: Partial<Record<MarkRule, number>> = { 'same facing': 12, 'same bend': 20, 'up to a crease': 28 }

export const useMarks = defineStore('marks', () => {
  const by = ref<MarkRule>('brush')
  const how = ref<'add' | 'take away' | 'intersect'>('add')
  const through = ref(false)
  const radius = ref(2)
  const onScreen = ref(false) // the radius then is in pixels
  const angle = ref<Record<string, number>>({ ...(ANGLES as Record<string, number>) })
  return { by, how, through, radius, onScreen, angle }
})
