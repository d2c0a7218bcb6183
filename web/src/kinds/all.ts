/** Every kind and stage there is: one module each, found by where it lies. */
import type { Kind, Stage } from './kind'

const found = import.meta.glob<{ default: Kind | Stage }>('./*/*.ts', { eager: true })
const given = Object.entries(found).filter(([, m]) => m.default)

export const KINDS = given.map(([, m]) => m.default).filter((d): d is Kind => 'kind' in d)
export const STAGES = given.map(([, m]) => m.default).filter((d): d is Stage => 'groups' in d)
