// @vitest-environment jsdom
import { beforeEach, describe, expect, it } from 'vitest'
import {
  allKinds,
  allStages,
  allTools,
  belt,
  findTools,
  kindOf,
  stageOf,
  stageState,
  toolGroups,
} from '../src/kinds/registry'
import { STAGE_KEYS } from '../src/kinds/stages'
import { built, roomWith, stone, screw } from './fakes'

describe('the registry', () => {
  beforeEach(() => localStorage.clear())

  it('knows every stage in its order, and puts every kind and tool into one', () => {
    roomWith([])
    expect(allStages().map((s) => s.key)).toEqual([...STAGE_KEYS])
    for (const k of allKinds()) expect(STAGE_KEYS).toContain(k.stage)
    const ids = allTools().map((t) => t.id)
    expect(new Set(ids).size).toBe(ids.length)
    for (const t of allTools()) {
      const groups = stageOf(t.stage)!.groups
      if (groups.length) expect(groups, t.id).toContain(t.group)
      expect(t.says).not.toMatch(/wizard|magic|!/i)
    }
  })

  it('says what is missing until it is there', () => {
    const empty = roomWith([])
    for (const t of allTools()) if (t.fits(empty)) expect(t.needs(empty), t.id).toMatch(/\.$/)
    const full = roomWith([...built(), screw()])
    const missing = allTools().filter((t) => t.fits(full) && t.needs(full))
    // One scan has nothing to be joined to, one body nothing to be combined with, one sketch nothing to be
    // lofted to.
    expect(missing.filter((t) => t.stage !== 'Join').map((t) => t.id)).toEqual([
      'loft',
      'stitch',
      'replace face',
      'combine bodies',
    ])
  })

  it('starts every tool that is not missing anything with a record of its kind, its slots known', () => {
    for (const t of allTools()) {
      const room = roomWith([...built(), screw(), stone('scan_2', 'scan', 'scan')])
      if (!t.fits(room) || t.needs(room)) continue
      const record = t.record(room)
      expect(record.name, t.id).toBeTruthy()
      if (t.slot) expect(Object.keys(kindOf(t.kind)!.slots), t.id).toContain(t.slot)
    }
  })

  it('offers clouds and meshes their own tools', () => {
    const names = (room: ReturnType<typeof roomWith>) =>
      toolGroups('Clean', room)
        .flatMap((g) => g.tools)
        .map((t) => t.name)
    const mesh = names(roomWith([stone('scan', 'scan', 'scan')]))
    const cloud = names(roomWith([stone('scan', 'scan', 'scan', { told: { is: 'cloud', points: 9 } })]))
    expect(mesh).toContain('Close holes')
    expect(mesh).not.toContain('Noise')
    expect(cloud).toContain('Triangulate')
    expect(cloud).not.toContain('Decimate')
  })

  it('finds tools by name, by what they say and by what a person might call them', () => {
    const room = roomWith(built())
    expect(findTools('devi', room)[0].name).toBe('Deviation map')
    expect(findTools('rounding', room).map((t) => t.name)).toContain('Fillet')
    expect(findTools('read', room)[0].name).toBe('Read a datum')
    expect(findTools('bore', room).map((t) => t.name)).toContain('Read a datum')
    expect(findTools('cut', room)[0].name).toBe('Cut') // not what only begins with it
    expect(findTools('no such thing', room)).toEqual([])
  })

  it('says how stages stand', () => {
    roomWith([])
    const state = (key: 'Frame' | 'Build', stones: ReturnType<typeof built>) =>
      stageState(stageOf(key)!, stones)
    const [, low, , , axes] = built()
    expect(state('Frame', [])).toBe('untouched')
    expect(state('Frame', [low])).toBe('begun')
    expect(state('Frame', [low, axes])).toBe('sound')
    expect(state('Frame', [{ ...low, status: 'failed' }, axes])).toBe('wanting')
    expect(state('Frame', [{ ...low, status: 'off' }])).toBe('untouched')
    expect(state('Build', [{ ...built()[6], status: 'pending' }])).toBe('begun')
  })

  it('begins with eight tools on the belt and survives what is not a belt', () => {
    roomWith([])
    expect(belt()).toHaveLength(8)
    localStorage.setItem('mason.belt', '{"not": "a belt"}')
    expect(belt()).toHaveLength(8)
    localStorage.setItem('mason.belt', 'nonsense')
    expect(belt()).toHaveLength(8)
    localStorage.setItem('mason.belt', '["plane", 7]')
    expect(belt()).toEqual(['plane'])
  })
})
