/** Edges of a body picked in the view, one by one or with all between the same two features. */
import type { EdgeName, Edges } from '../../api/types'
import type { Kind, Slot } from '../kind'

type WithEdges = { body: string | null; edges: EdgeName[]; alike?: boolean }
const label = (e: readonly (string | number)[]) => e.join('|')

export const edgesSlot = <R extends WithEdges>(): Slot<R> => ({
  takes: ['edge'],
  says: 'Click near an edge of the model',
  put: async (at, r, room) => {
    if (at.what !== 'edge') return
    const got = await room.job.ask<Edges>('/edges', { body: r.body, place: at.place })
    const wanted = (r.alike === false ? [got.edge] : got.alike) as EdgeName[]
    const names = new Set(r.edges.map(label))
    const all = wanted.every((n) => names.has(label(n)))
    const mine = new Set(wanted.map(label))
    r.edges = all
      ? r.edges.filter((n) => !mine.has(label(n)))
      : [...r.edges, ...wanted.filter((n) => !names.has(label(n)))]
  },
})

/** Edges are clicked on the body as it is before them; it is shown changed once they are not. */
export const showsEdges: Kind<WithEdges & { id?: string }>['shows'] = (_plan, r, _p, room) => {
  const key = room.hand.result ?? room.job.byId.get(r.body ?? '')?.key
  return {
    body: key ? { id: r.body ?? '', key } : null,
    edges: { body: r.body ?? '', names: r.edges },
  }
}
