/** The elements a datum can be read as. */
import type { PickRecord, Schemas } from '../../api/types'

export type Element = Schemas['DatumStep']['element']

export const RULE_OF: { [K in Element]: PickRecord['rule'] } = { plane: 'same facing', cylinder: 'same bend' }
export const NAME_OF: { [K in Element]: string } = { plane: 'Plane', cylinder: 'Axis' }
export const TITLE_OF: { [K in Element]: string } = { plane: 'Plane datum', cylinder: 'Axis datum' }
