/**
 * What somebody is typing stays in its field while the form around it is drawn anew: `v-typing` on an input
 * whose value is bound and taken on `change`.
 */
import type { ObjectDirective } from 'vue'

const typed = new WeakMap<HTMLInputElement, string>()
const note = (e: Event) => typed.set(e.target as HTMLInputElement, (e.target as HTMLInputElement).value)
const done = (e: Event) => typed.delete(e.target as HTMLInputElement)

export const vTyping: ObjectDirective<HTMLInputElement> = {
  mounted(el) {
    el.addEventListener('input', note)
    el.addEventListener('change', done)
    el.addEventListener('blur', done)
  },
  updated(el) {
    const text = typed.get(el)
    if (text !== undefined && el.value !== text) el.value = text
  },
}
