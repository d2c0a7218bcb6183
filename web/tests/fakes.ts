/** A room to try kinds in: stones as the server would tell them, and a hand that notes what it is asked. */
import type { JobView, Stone } from '../src/api/types'
import { KINDS, STAGES } from '../src/kinds/all'
import { register } from '../src/kinds/registry'
import { createPinia, setActivePinia } from 'pinia'
import { useJob } from '../src/state/job'
import { useRoom } from '../src/state/room'

export function stone(id: string, kind: string, produces: string, more: Partial<Stone> = {}): Stone {
  const course = { scan: 'scan', placement: 'scan', datum: 'datums', frame: 'datums', sketch: 'sketches' }[
    produces
  ]
  return {
    id,
    kind,
    name: id,
    course: course ?? 'bodies',
    produces,
    enabled: true,
    inputs: [],
    betters: null,
    key: `key of ${id}`,
    status: 'sound',
    says: '',
    told:
      produces === 'scan'
        ? { is: 'mesh', triangles: 1000, points: 500, bounds: BOUNDS, coloured: false }
        : {},
    ...more,
  }
}
const BOUNDS = [
  [0, 0, 0],
  [40, 30, 20],
]

export function roomWith(stones: Stone[]) {
  setActivePinia(createPinia())
  register({ kinds: KINDS, stages: STAGES })
  const job = useJob()
  const view = {
    id: 1,
    name: 'Job',
    revision: 1,
    stones,
    values: [],
    undo: null,
    redo: null,
    tasks: [],
    proofs: [],
    demo: '',
  }
  job.job = view as JobView
  return useRoom()
}

/** A part with all that a body needs, and the body. */
export const built = () => [
  stone('scan', 'scan', 'scan'),
  stone('low', 'datum', 'datum', {
    inputs: ['scan'],
    told: { element: 'plane', roles: ['plane'], says: '± 0.001' },
  }),
  stone('front', 'datum', 'datum', { inputs: ['scan'], told: { element: 'plane', roles: ['plane'] } }),
  stone('bore', 'datum', 'datum', {
    inputs: ['scan'],
    told: { element: 'cylinder', roles: ['axis', 'middle'] },
  }),
  stone('axes', 'frame', 'frame', { inputs: ['low', 'front', 'bore'], told: { matrix: null } }),
  stone('outline', 'sketch', 'sketch', { inputs: ['scan', 'axes'] }),
  stone('base', 'extrude', 'body', { inputs: ['outline', 'scan', 'axes'] }),
  stone('round', 'fillet', 'body', { inputs: ['base', 'scan', 'axes'], betters: 'base' }),
]

/** A curve that is laid, a helix with its pitch. */
export const screw = () =>
  stone('screw', 'helix', 'curve', {
    inputs: ['scan', 'axes'],
    told: { pitch: 2, shown: [], closed: false },
  })
