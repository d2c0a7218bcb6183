import { describe, expect, it } from 'vitest'
import { fieldsOf } from '../src/kinds/fields'
import { count, mm, pm, short, signed, typed, whole } from '../src/state/format'

const SCHEMA = {
  id: { type: 'string' },
  scan: { type: 'string', ref: ['scan'] },
  body: { type: 'string', ref: ['body'], label: 'model after' },
  to: {
    enum: ['share', 'count'],
    label: 'to',
    choices: { share: 'a share', count: 'a count' },
    type: 'string',
  },
  share: {
    type: 'number',
    label: 'leave',
    unit: 'of all',
    exclusiveMinimum: 0,
    maximum: 1,
    when: { to: 'share' },
  },
  triangles: { type: 'integer', label: 'leave', minimum: 4, when: { to: 'count' } },
  bound: {
    anyOf: [{ type: 'number', exclusiveMinimum: 0, maximum: 1e6 }, { type: 'null' }],
    label: 'bound',
    empty: 'from the scan',
    description: 'Farthest.',
    more: true,
  },
  turned: { type: 'boolean', label: 'turned' },
}
const record = (more: Record<string, unknown>) => ({ kind: 'x', name: 'X', ...more })

describe('fields of a generated form', () => {
  const fields = fieldsOf(SCHEMA, record({ to: 'share' }))
  it('are those that say what they are called, and that count now', () => {
    expect(fields.map((f) => f.key)).toEqual(['body', 'to', 'share', 'bound', 'turned'])
    expect(fieldsOf(SCHEMA, record({ to: 'count' })).map((f) => f.key)).toContain('triangles')
  })
  it('are of the kind their schema says', () => {
    expect(fields.map((f) => f.is)).toEqual(['stone', 'choice', 'number', 'number', 'yes or no'])
    expect(fieldsOf(SCHEMA, record({ to: 'count' }))[2].is).toBe('whole number')
  })
  it('know their limits, their unit, what none means, and whether they are folded', () => {
    const by = new Map(fields.map((f) => [f.key, f]))
    expect(by.get('share')).toMatchObject({ min: 0, max: 1, unit: 'of all', none: false, more: false })
    expect(by.get('bound')).toMatchObject({
      min: 0,
      max: 1e6,
      none: true,
      empty: 'from the scan',
      more: true,
    })
    expect(by.get('to')!.choices).toEqual([
      ['share', 'a share'],
      ['count', 'a count'],
    ])
    expect(by.get('body')!.ref).toEqual(['body'])
  })
})

describe('figures', () => {
  it('read as people write them', () => {
    expect(mm(-0.0001)).toBe('0.000')
    expect(mm(25.4, 3, true)).toBe('1.0000')
    expect(signed(-0.25)).toBe('−0.250')
    expect(signed(0.25)).toBe('+0.250')
    expect(pm(0.0001)).toBe('± <0.001')
    expect(short(8.5)).toBe('8.5')
    expect(mm(null)).toBe('–')
    expect(mm(Infinity)).toBe('–')
    expect(whole(1234567)).toBe('1,234,567')
    expect(count(12345)).toBe('12 k')
  })
  it('are read as people type them', () => {
    expect(typed(' 12,5 ')).toBe(12.5)
    expect(typed('−3')).toBe(-3)
    expect(typed('')).toBeNull()
    expect(typed('twelve')).toBeNull()
  })
})
