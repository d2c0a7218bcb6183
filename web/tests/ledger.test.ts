import { describe, expect, it } from 'vitest'
import type { Stone, ValueLine } from '../src/api/types'
import { matching, rowsOf, sorted } from '../src/ledger/rows'

const value = (name: string, step: string, more: Partial<ValueLine> = {}): ValueLine => ({
  name,
  step,
  label: name,
  measured: null,
  uncertainty: null,
  chosen: 1,
  source: 'typed',
  unit: 'mm',
  cost: null,
  fixed: false,
  given: false,
  reading: null,
  formula: null,
  used_by: [],
  ...more,
})
const stone = (id: string, name: string) => ({ id, name }) as Stone
const rows = rowsOf(
  [
    value('base.width', 'a', { chosen: 60, cost: 0.01 }),
    value('flange', 'a', { chosen: 12, source: 'hand reading' }),
    value('boss.end', 'b', { chosen: 30, formula: 'base.width / 2', cost: 0.2 }),
  ],
  [stone('a', 'Base outline'), stone('b', 'Boss')],
)

describe('the ledger', () => {
  it('finds lines that hold every word', () => {
    expect(matching(rows, 'base').map((r) => r.name)).toEqual(['base.width', 'flange', 'boss.end'])
    expect(matching(rows, 'hand base').map((r) => r.name)).toEqual(['flange'])
    expect(matching(rows, '30').map((r) => r.name)).toEqual(['boss.end'])
    expect(matching(rows, 'nothing so')).toEqual([])
  })
  it('sorts by a column both ways, lines without a figure last', () => {
    expect(sorted(rows, 'chosen', false).map((r) => r.chosen)).toEqual([12, 30, 60])
    expect(sorted(rows, 'cost', true).map((r) => r.name)).toEqual(['boss.end', 'base.width', 'flange'])
    expect(sorted(rows, null, true)).toEqual(rows)
    expect(sorted(rows, 'stone', true)[0]!.stone).toBe('Boss')
  })
})
