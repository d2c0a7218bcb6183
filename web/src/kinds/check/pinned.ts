/** A place of the view where a note was put down, until it is taken up. */
import { shallowRef } from 'vue'
import type { Vec3 } from '../../api/types'

export const pinned = shallowRef<Vec3 | null>(null)
