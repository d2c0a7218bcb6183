/** Which deviation the view draws, in whose coordinates. */
import type { Matrix } from '../api/types'
import type { Room } from '../state/room'
import type { DeviationPlan } from '../view3d/plan'
import { times } from '../view3d/stone'
import { useProving } from './proving'

export function deviationOf(room: Room): DeviationPlan | null {
  const p = useProving()
  const { job, shown } = room
  if (p.comparing) {
    const { first, second } = p.comparing
    const name = `${second.key}-${first.key === second.key ? first.scan_key : second.scan_key}`
    const band = 0.1 * p.high
    const plan = { key: first.key, what: 'difference' as const, scan: first.scan_key, name }
    return { ...plan, matrix: first.matrix, high: band, low: band, reach: p.high + p.low }
  }
  if (p.live) {
    const { band, reach } = p.liveBand
    const plan = { key: p.live.key, what: 'tide' as const, scan: p.live.measured, name: '' }
    return { ...plan, matrix: job.matrix, high: band, low: band, reach }
  }
  const told = p.told
  const check = p.check
  const proof = shown.proof
  if (!told || (!proof && (shown.stage === 'Build' || !check?.key))) return null
  const reach = told.histogram.edges.at(-1) ?? 0.3
  // A check without a frame was measured in the scan's own coordinates: it is shown where the scan is.
  const framed = proof || check!.inputs.some((i) => job.byId.get(i)?.produces === 'frame')
  const base: Matrix | null = framed ? null : job.matrix
  const from = told.matrix.length ? times(base, told.matrix) : job.matrix
  const scan = proof ? proof.scan_key : job.byId.get(scanOf(room) ?? '')?.key
  const band = { high: p.high, low: p.low, reach }
  const key = proof ? proof.key : check!.key!
  if (p.on === 'model' && told.on_model)
    return { key, what: 'faith', scan: null, name: '', matrix: base, ...band }
  return scan ? { key, what: 'tide', scan, name: '', matrix: from, ...band } : null
}

/** The scan that the check looked at was made of. */
function scanOf(room: Room): string | null {
  const inputs = useProving().check?.inputs ?? []
  return inputs.find((i) => room.job.byId.get(i)?.produces === 'scan') ?? null
}
