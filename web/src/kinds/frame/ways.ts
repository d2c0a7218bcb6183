/** Ways to make a datum of others, as the server describes them. */
import type { DatumLine, Schemas, Stone } from '../../api/types'
import type { KindSchema } from '../../state/schemas'

export type WayName = Schemas['ConstructStep']['way']
export type Way = { title: string; takes: string[]; asks: ('distance' | 'angle_deg')[]; turns_round: boolean }

export function waysOf(schemas: { [kind: string]: KindSchema }): [WayName, Way][] {
  const field = schemas.construct?.schema.properties.way as { ways?: (Way & { name: WayName })[] } | undefined
  return (field?.ways ?? []).map((w) => [w.name, w])
}
const rolesOf = (s: Stone) => (s.told as unknown as DatumLine).roles ?? []

/** Whether these datums, in whatever order, can stand where the way asks for them. */
export function suits(way: Way, datums: Stone[]): boolean {
  if (datums.length !== way.takes.length) return false
  const fill = (k: number, left: Stone[]): boolean =>
    k === way.takes.length ||
    left.some(
      (s, i) =>
        rolesOf(s).includes(way.takes[k]) &&
        fill(
          k + 1,
          left.filter((_, n) => n !== i),
        ),
    )
  return fill(0, datums)
}
