/** The fields of a kind's schema that a generated form shows, in its order. */
import type { StepRecord } from '../api/types'
import type { FieldSchema } from '../state/schemas'

export type FormField = {
  key: string
  label: string
  help: string
  is: 'number' | 'whole number' | 'yes or no' | 'choice' | 'text' | 'stone' | 'stones' | 'chosen'
  unit: string
  step: number | undefined
  min: number | undefined
  max: number | undefined
  /** What no number means; empty where there must be one. */
  empty: string
  choices: [string, string][]
  /** What stones may stand here give. */
  ref: string[] | null
  none: boolean
  more: boolean
}

/** A field's own schema, and whether it may be left empty. */
function whole(s: FieldSchema): { inner: FieldSchema; none: boolean } {
  const parts = s.anyOf ?? []
  const inner = parts.find((p) => p.type !== 'null')
  return inner
    ? { inner: { ...inner, ...without(s) }, none: parts.some((p) => p.type === 'null') }
    : { inner: s, none: false }
}
const without = (s: FieldSchema) => Object.fromEntries(Object.entries(s).filter(([k]) => k !== 'anyOf'))

function kindOfField(s: FieldSchema): FormField['is'] {
  if (s.ref) return 'stone'
  if (s.items?.ref) return 'stones'
  if (s.$ref?.endsWith('/Chosen')) return 'chosen'
  if (s.enum) return 'choice'
  if (s.type === 'boolean') return 'yes or no'
  if (s.type === 'integer') return 'whole number'
  return s.type === 'number' ? 'number' : 'text'
}

/** What can be chosen and how it is called, in the order the kind names it. */
const choicesOf = (s: FieldSchema): [string, string][] =>
  (s.enum ?? Object.keys(s.choices ?? {})).map((v) => [v, s.choices?.[v] ?? v])

const counts = (now: unknown, when: unknown) => (Array.isArray(when) ? when.includes(now) : now === when)

/**
 * Fields that say what they are called; others are filled by picking. Those that do not count now are left
 * out.
 */
export function fieldsOf(properties: Record<string, FieldSchema>, record: StepRecord): FormField[] {
  return Object.entries(properties)
    .map(([key, raw]) => ({ key, raw, ...whole(raw) }))
    .filter(({ inner }) => inner.label !== undefined)
    .sort((a, b) => Number(b.inner.first ?? false) - Number(a.inner.first ?? false))
    .filter(({ inner }) => Object.entries(inner.when ?? {}).every(([k, v]) => counts(record[k] ?? null, v)))
    .map(({ key, inner, none }) => ({
      key,
      label: inner.label!,
      help: inner.description ?? '',
      is: kindOfField(inner),
      unit: inner.unit ?? '',
      step: inner.step,
      min: inner.minimum ?? inner.exclusiveMinimum,
      max: inner.maximum ?? inner.exclusiveMaximum,
      empty: inner.empty ?? '',
      choices: choicesOf(inner),
      ref: inner.ref ?? inner.items?.ref ?? null,
      none,
      more: inner.more ?? false,
    }))
}
