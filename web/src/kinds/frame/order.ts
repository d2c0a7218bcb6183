/** The datums of a frame in order of trust, and what each is for. */
export type Key = 'first' | 'second' | 'origin'
export const SLOTS: [Key, string][] = [
  ['first', 'holds its axis exactly'],
  ['second', 'stops the part turning'],
  ['origin', 'zero lies on it'],
]
