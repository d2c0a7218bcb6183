/** The elements a datum can be read as. */
import type { Schemas } from '../../api/types'

export type Element = Schemas['DatumStep']['element']

export const NAME_OF: { [K in Element]: string } = {
  best: 'Datum',
  plane: 'Plane',
  cylinder: 'Axis',
  cone: 'Cone',
  sphere: 'Ball',
  torus: 'Ring',
}
export const TITLE_OF: { [K in Element]: string } = {
  best: 'Read a datum',
  plane: 'Plane datum',
  cylinder: 'Axis datum',
  cone: 'Cone datum',
  sphere: 'Ball datum',
  torus: 'Ring datum',
}
/** What the surface is called. */
export const SURFACE_OF: { [K in Element]: string } = {
  best: 'Whatever it is',
  plane: 'Flat face',
  cylinder: 'Bore or boss',
  cone: 'Cone',
  sphere: 'Ball',
  torus: 'Ring',
}
/** What an outline is called. */
export const OUTLINE_OF: { [shape: string]: string } = {
  circle: 'Circle',
  slot: 'Slot',
  rectangle: 'Rectangle',
}
