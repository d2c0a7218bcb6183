/** The tools that lie on the paper: what each takes, asks for and does. The server works all of it out. */
import type { Schemas } from '../api/types'

export type Change = Partial<Schemas['Change']> & { do: Schemas['Change']['do'] }
export type GroupName = 'fit' | 'draw' | 'change'

/** A number a tool asks for at the paper's foot. */
export type Asked = { key: string; label: string; start: number; unit: string; whole?: boolean }

export type PaperTool = {
  id: string
  group: GroupName
  name: string
  key: string
  /** Two or three strokes that stand for it, in a box of 20. */
  icon: string
  /** What it asks for, place after place. */
  says: string[]
  /**
   * stretch: of the trace, clicked or brushed; places: on the paper; spot: an entity where it was clicked;
   * entities: so many; after: what was picked before, then what it says.
   */
  takes: 'stretch' | 'places' | 'spot' | 'entities' | 'picked' | 'after'
  /** How many it takes; 0: as many as are given, until Enter. */
  count: number
  asks?: Asked[]
  change: (given: Given) => Change
}
export type Given = {
  places: [number, number][]
  of: string[]
  reach: number
  numbers: Record<string, number>
  guide: boolean
}

/** What follows the trace: a stretch of it clicked, or brushed along. */
const traced = (kind: string, key: string, icon: string, count = 1): PaperTool => ({
  id: `traced ${kind}`,
  group: 'fit',
  name: kind,
  key,
  icon,
  takes: 'stretch',
  count,
  says:
    count > 1
      ? Array.from(
          { length: count },
          (_, k) =>
            `Click ${['the first', 'the second', 'the third', 'the fourth'][k]} stretch, or brush along all`,
        )
      : [`Click a stretch of the trace, or brush along it`],
  change: (g) => ({ do: 'fit', kind, places: g.places }),
})
const draw = (
  kind: string,
  key: string,
  icon: string,
  says: string[],
  more: Partial<PaperTool> = {},
): PaperTool => ({
  id: `draw ${kind}`,
  group: 'draw',
  name: kind,
  key,
  icon,
  takes: 'places',
  count: says[says.length - 1].startsWith('…') ? 0 : says.length,
  says,
  change: (g) => ({
    do: 'draw',
    kind,
    places: g.places,
    reach: g.reach,
    guide: g.guide,
    ...(g.numbers.sides ? { count: g.numbers.sides } : {}),
    ...(g.numbers.radius ? { by: g.numbers.radius } : {}),
  }),
  ...more,
})
const spot = (what: 'trim' | 'extend' | 'split', key: string, icon: string, says: string): PaperTool => ({
  id: what,
  group: 'change',
  name: what,
  key,
  icon,
  takes: 'spot',
  count: 1,
  says: [says],
  change: (g) => ({ do: what, of: g.of, places: g.places }),
})

const corner = (what: 'round' | 'bevel', key: string, icon: string, asks: Asked): PaperTool => ({
  id: what,
  group: 'change',
  name: `${what} a corner`,
  key,
  icon,
  takes: 'entities',
  count: 2,
  says: ['Click one side of the corner', 'Click the other'],
  asks: [asks],
  change: (g) => ({ do: what, of: g.of, by: g.numbers.by }),
})

const ARC = 'M3 16A13 13 0 0 1 17 16'
const RECT = 'M3 5H17V15H3Z'
const SLOT = 'M6 6H14A4 4 0 0 1 14 14H6A4 4 0 0 1 6 6Z'
const ROUNDED = 'M6 4H14A3 3 0 0 1 17 7V13A3 3 0 0 1 14 16H6A3 3 0 0 1 3 13V7A3 3 0 0 1 6 4Z'
const WAVE = 'M2 13C6 2 9 18 18 6'
const RING = 'M3 10A7 7 0 1 0 17 10A7 7 0 1 0 3 10'

export const TOOLS: PaperTool[] = [
  traced('line', 'l', 'M3 16L17 4'),
  traced('arc', 'a', ARC),
  traced('circle', 'c', RING),
  traced('corner', 'v', 'M4 3V16H17', 2),
  traced('rectangle', 'r', RECT, 4),
  traced('rounded rectangle', 'o', ROUNDED),
  traced('slot', 's', SLOT),
  traced('ellipse', 'e', 'M2 10A8 5 0 1 0 18 10A8 5 0 1 0 2 10'),
  traced('spline', 'w', WAVE),
  draw('line', 'l', 'M3 16L17 4', ['Click where it begins', 'Click where it ends']),
  draw('polyline', 'y', 'M3 16L8 5L13 13L17 4', ['Click where it begins', '… and on; Enter ends it']),
  draw('centre line', 'k', 'M10 2V7M10 9V11M10 13V18', ['Click where it begins', 'Click where it ends']),
  draw('arc', 'a', ARC, ['Click where it begins', 'Click where it ends', 'Click a place it passes']),
  draw('arc about a centre', 'b', 'M10 15L3 8A10 10 0 0 1 17 8', [
    'Click its centre',
    'Click where it begins',
    'Click where it ends',
  ]),
  draw('arc that runs on', 'n', 'M2 16H9A8 8 0 0 0 17 8', [
    'Click the end it runs on from',
    'Click where it ends',
  ]),
  draw('circle', 'c', RING, ['Click its centre', 'Click a place on it']),
  draw('circle through three', 'q', `${RING}M3 10h.1M14 4h.1M14 16h.1`, [
    'Click a place on it',
    'Click another',
    'Click a third',
  ]),
  draw('ellipse', 'e', 'M2 10A8 5 0 1 0 18 10A8 5 0 1 0 2 10', [
    'Click its centre',
    'Click the end of one axis',
    'Click a place on it',
  ]),
  draw('rectangle', 'r', RECT, ['Click a corner', 'Click the opposite corner']),
  draw('rounded rectangle', 'o', ROUNDED, ['Click a corner', 'Click the opposite corner'], {
    asks: [{ key: 'radius', label: 'corner radius', start: 0, unit: 'mm' }],
  }),
  draw('slot', 's', SLOT, ['Click the middle of one end', 'Click the middle of the other', 'Click its side']),
  draw('polygon', 'g', 'M10 2L17 7L15 16H5L3 7Z', ['Click its centre', 'Click a corner'], {
    asks: [{ key: 'sides', label: 'sides', start: 6, unit: '', whole: true }],
  }),
  draw('spline', 'w', WAVE, ['Click where it begins', '… places it passes; Enter ends it']),
  draw('spline by poles', 'j', 'M2 15L7 3L13 17L18 5', [
    'Click where it begins',
    '… its poles; Enter ends it',
  ]),
  draw('point', 'p', 'M10 6V14M6 10H14', ['Click where it lies']),
  spot('trim', 't', 'M3 10H7M13 10H17M10 2V18', 'Click the stretch that goes'),
  spot('extend', 'x', 'M3 10H12M17 3V17M12 10l-3-2.4M12 10l-3 2.4', 'Click near the end that is to run on'),
  spot('split', 'i', 'M3 10H9M11 10H17M10 6V14', 'Click where it is cut in two'),
  {
    id: 'join',
    group: 'change',
    name: 'join',
    key: 'm',
    icon: 'M3 16L10 9M10 9L17 16M8 9h4',
    takes: 'entities',
    count: 2,
    says: ['Click one', 'Click the other'],
    change: (g) => ({ do: 'join', of: g.of }),
  },
  corner('round', 'f', 'M4 3V10A6 6 0 0 0 10 16H17', { key: 'by', label: 'radius', start: 2, unit: 'mm' }),
  corner('bevel', 'b', 'M4 3V10L10 16H17', { key: 'by', label: 'leg', start: 1, unit: 'mm' }),
  {
    id: 'offset',
    group: 'change',
    name: 'offset',
    key: 'o',
    icon: 'M3 3H17V17M7 7H13V13',
    takes: 'entities',
    count: 1,
    says: ['Type how far (outward above 0), then click the outline'],
    asks: [{ key: 'by', label: 'outward', start: 2, unit: 'mm' }],
    change: (g) => ({ do: 'offset', of: g.of, by: g.numbers.by }),
  },
  {
    id: 'mirrored',
    group: 'change',
    name: 'mirror image',
    key: 'r',
    icon: 'M10 2V18M7 6L3 14H7ZM13 6L17 14H13Z',
    takes: 'after',
    count: 1,
    says: ['Click the line or axis it is mirrored in'],
    change: (g) => ({ do: 'mirrored', of: g.of }),
  },
  {
    id: 'row',
    group: 'change',
    name: 'repeat in a row',
    key: 'w',
    icon: 'M2 7H6V13H2ZM8 7H12V13H8ZM14 7H18V13H14Z',
    takes: 'picked',
    count: 0,
    says: ['Type how many and how far apart, then Enter'],
    asks: [
      { key: 'count', label: 'how many', start: 3, unit: '', whole: true },
      { key: 'dx', label: 'step x', start: 10, unit: 'mm' },
      { key: 'dy', label: 'step y', start: 0, unit: 'mm' },
    ],
    change: (g) => ({ do: 'row', of: g.of, count: g.numbers.count, step: [g.numbers.dx, g.numbers.dy] }),
  },
  {
    id: 'ring',
    group: 'change',
    name: 'repeat in a ring',
    key: 'g',
    icon: 'M10 2V6M10 14V18M2 10H6M14 10H18M10 10h.1',
    takes: 'after',
    count: 1,
    says: ['Type how many, then click the place it turns about'],
    asks: [{ key: 'count', label: 'how many', start: 6, unit: '', whole: true }],
    change: (g) => ({ do: 'ring', of: g.of, count: g.numbers.count }),
  },
  {
    id: 'move',
    group: 'change',
    name: 'move',
    key: 'v',
    icon: 'M3 10H17M10 3V17',
    takes: 'picked',
    count: 0,
    says: ['Type how far, then Enter'],
    asks: [
      { key: 'dx', label: 'x', start: 0, unit: 'mm' },
      { key: 'dy', label: 'y', start: 0, unit: 'mm' },
    ],
    change: (g) => ({ do: 'move', of: g.of, step: [g.numbers.dx, g.numbers.dy] }),
  },
  {
    id: 'guide',
    group: 'change',
    name: 'only a guide',
    key: 'k',
    icon: 'M3 16L6 13M8 11L11 8M13 6L17 3',
    takes: 'picked',
    count: 0,
    says: [''],
    change: (g) => ({ do: 'guide', of: g.of }),
  },
  {
    id: 'close gaps',
    group: 'change',
    name: 'close gaps',
    key: 'z',
    icon: 'M3 6V16H8M12 16H17V6H3',
    takes: 'picked',
    count: 0,
    says: ['Type the widest gap, then Enter'],
    asks: [{ key: 'by', label: 'gaps to', start: 1, unit: 'mm' }],
    change: (g) => ({ do: 'close gaps', by: g.numbers.by }),
  },
  {
    id: 'remove',
    group: 'change',
    name: 'take out',
    key: 'Delete',
    icon: 'M4 4L16 16M16 4L4 16',
    takes: 'picked',
    count: 0,
    says: [''],
    change: (g) => ({ do: 'remove', of: g.of }),
  },
]

export const toolsOf = (group: GroupName) => TOOLS.filter((t) => t.group === group)
/** Tools that need nothing typed act at once on what is picked. */
export const acts = (t: PaperTool) => t.takes === 'picked' && !t.asks
