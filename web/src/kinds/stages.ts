/** The stages of a job in their order, and what each works on. */
export const STAGE_KEYS = [
  'Scans',
  'Clean',
  'Join',
  'Frame',
  'Zones',
  'Sketch',
  'Build',
  'Check',
  'Deliver',
] as const
export type StageKey = (typeof STAGE_KEYS)[number]
