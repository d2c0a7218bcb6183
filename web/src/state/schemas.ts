/** The fields of every kind of step, as the server describes them: generated forms are made from these. */
import { shallowRef } from 'vue'
import { call } from '../api/client'

export type FieldSchema = {
  type?: string
  title?: string
  description?: string
  default?: unknown
  enum?: string[]
  anyOf?: FieldSchema[]
  minimum?: number
  maximum?: number
  exclusiveMinimum?: number
  exclusiveMaximum?: number
  ref?: string[]
  $ref?: string
  items?: FieldSchema
  label?: string
  unit?: string
  step?: number
  empty?: string
  when?: Record<string, unknown>
  choices?: Record<string, string>
  more?: boolean
  first?: boolean
}
export type KindSchema = {
  title: string
  course: string
  produces: string
  schema: { properties: Record<string, FieldSchema> }
}

const known = shallowRef<Record<string, KindSchema>>({})
let asked: Promise<void> | null = null

/** Every kind's schema; fetched once. */
export function useSchemas() {
  asked ??= call<Record<string, KindSchema>>('GET', '/kinds').then(
    (found) => void (known.value = found),
    () => void (asked = null),
  )
  return known
}
