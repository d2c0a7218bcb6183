/** What lies under the pointer, in words that are read out. */
import { partWords } from '../check/proving'
import type { Under } from './picking'

/** `name`: of a stone by its id. */
export function spoken(at: Under | null, name: (id: string) => string): string {
  if (!at) return ''
  if (at.what === 'face') return `face: ${partWords(at.name)}, of ${name(at.body)}`
  if (at.what === 'edge') {
    const faces = at.name.slice(0, 2).map((f) => partWords(String(f)))
    return `edge between ${faces.join(' and ')}, of ${name(at.body)}`
  }
  if (at.what === 'vertex') return `corner of ${name(at.body)}`
  if (at.what === 'datum') return `datum: ${name(at.id)}`
  if (at.what === 'loop') return `outline of ${name(at.sketch)}`
  if (at.what === 'scan') return `scan: ${name(at.id)}`
  return ''
}
