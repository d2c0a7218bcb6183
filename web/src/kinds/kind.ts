/**
 * What all the screens need to know of a kind of step, and of a stage. One module a kind says it; nothing
 * else names one.
 */
import type { Component } from 'vue'
import type { Preview, StepRecord, Stone, Vec3 } from '../api/types'
import type { Mark } from '../state/marks'
import type { Room } from '../state/room'
import type { Under, What } from '../view3d/picking'
import type { Plan } from '../view3d/plan'
import type { StageKey } from './stages'

/** A way to put a step in hand; a kind may have several. */
export type Tool = {
  id: string
  kind: string
  stage: StageKey
  group: string
  name: string
  says: string
  /** What else a person might call it: the finder looks here too. */
  also: string
  /** What is missing before it can be used; null where nothing is. */
  needs: (room: Room) => string | null
  /** Whether it makes sense here at all: others are not offered. */
  fits: (room: Room) => boolean
  record: (room: Room) => Omit<StepRecord, 'kind'>
  /** The slot that has the hand first. */
  slot: string | null
  /** Its name where there is little room. */
  brief: string
  /** Its place in its group. */
  place: number
  /** Its place on a fresh belt, from 1; 0: not on it. */
  belt: number
  /** What is shown when it is taken up. */
  begins: (room: Room) => void
}

/** A place in a step's record that is filled by picking, in the view or from the yard. */
export type Slot<R> = {
  takes: What[]
  says: string | ((record: R, room: Room) => string)
  put?: (at: Under, record: R, room: Room) => void | Promise<void>
  /** What stones of the yard may fill it give, and how. */
  yard?: { gives: string[]; put: (stone: Stone, record: R, room: Room) => void }
  /** The marking tool has the hand; `later`: what is marked is not tried at once. */
  marks?: boolean | 'later'
  /** What is marked belongs to something that was picked: its marks, and what shows it with them. */
  onto?: { marks: (record: R) => Mark[] | undefined; show: (record: R, room: Room) => void }
  /** A drag from one place to another fills it; `along` is what the pointer passed over. */
  stroke?: {
    along: (path: Under[], record: R, room: Room) => void
    done: (path: Under[], record: R, room: Room) => void
  }
  /** Places that can be dragged, in the scan's coordinates. */
  handles?: {
    of: (record: R, room: Room) => Vec3[]
    move: (k: number, to: Vec3, record: R, room: Room) => void
    /** The direction it may be dragged along where there is no scan under the pointer. */
    way?: (k: number, record: R, room: Room) => Vec3 | null
  }
}

/** A figure of the evidence that a generated form shows. */
export type Figure<T> = {
  key: string
  label: string
  of: (told: T, before: Record<string, unknown>) => string
}

/** A result that what was picked could make: what it is called, and what would be put in hand. */
export type Offer = {
  tool: string
  title: string
  record: StepRecord
  slot?: string
  /**
   * What it says of itself, worked out by the server, and how good it is (less is better); null: it makes no
   * sense.
   */
  weigh: (told: Preview) => { title?: string; figure: string; cost: number } | null
  /** Why it is offered, in a sentence: of what was picked, and of what was worked out where that is known. */
  why: string | ((told: Preview | null) => string)
  /** What it says where the server cannot be asked yet, because it needs more than was picked. */
  known?: { figure: string; cost: number }
}

export type Kind<R = StepRecord, T = Record<string, unknown>> = {
  kind: string
  stage: StageKey
  title: string | ((record: R) => string)
  says: string | ((record: R) => string)
  tools: Tool[]
  slots: Record<string, Slot<R>>
  ready: (record: R, preview: Preview<T> | null) => true | string
  /** What laying it does, in words, after "Lay" or as a whole. */
  verb: (told: T | null, record: R) => string
  /** Whether it is tried as soon as it is in hand: always, when it is taken back, or by its own form. */
  tries: 'always' | 'taken back' | 'by itself'
  /** What the view draws while it is in hand: the plan it would draw, changed. */
  shows: (plan: Plan, record: R, preview: Preview<T> | null, room: Room) => Partial<Plan>
  form: Component | null
  figures: Figure<T>[]
  /** What else changes in its record when a field of its form was set. */
  follows: (key: string, record: R, room: Room) => void
  /**
   * It takes a scan and gives a better one: before and after can be compared, and how far it moved where it
   * tells.
   */
  compares: false | 'before and after' | 'moved too'
  /** Facets or points that would go are lit in the view, by this array of the result. */
  goes: string | null
  /** New facets are lit in the view, by this array of the result. */
  adds: string | null
  /** Of the record what is the hand's alone and never sent. */
  handOnly: (keyof R & string)[]
  /** What the shown part changes to once it is laid. */
  laid: (room: Room) => void
  /** It draws on the paper. */
  paper: boolean
  /** What lies beside the view, if anything does. */
  beside: (room: Room) => Component | null
  /** What takes the view's place, if anything does. */
  covers: (room: Room) => Component | null
  /** What it could make of things that were picked with nothing in hand. */
  offers: (given: Under[], room: Room) => Offer[]
  /** `[` and `]`: a factor on how far it reaches. */
  widens: (factor: number, record: R, room: Room) => void
  /** Undo or redo within what is in hand; whether there was anything to take back. */
  steps: (forward: boolean) => boolean
  /** Escape, before the step itself is dropped: whether there was anything to give up first. */
  escapes: () => boolean
}

type Given<R, T> = Pick<Kind<R, T>, 'kind' | 'stage' | 'title' | 'says'> &
  Partial<Omit<Kind<R, T>, 'tools'>> & {
    tools?: (Pick<Tool, 'id' | 'name' | 'says'> &
      Partial<Omit<Tool, 'record'>> & { record: (r: Room) => Partial<R> })[]
  }

/** A kind's module, with what it leaves unsaid filled in. */
export function defineKind<R = StepRecord, T = Record<string, unknown>>(given: Given<R, T>): Kind {
  const whole: Kind<R, T> = {
    slots: {},
    ready: () => true,
    verb: () => '',
    tries: 'always',
    shows: () => ({}),
    form: null,
    figures: [],
    follows: () => {},
    compares: false,
    goes: null,
    adds: null,
    handOnly: [],
    laid: () => {},
    paper: false,
    beside: () => null,
    covers: () => null,
    offers: () => [],
    widens: () => {},
    steps: () => false,
    escapes: () => false,
    ...given,
    tools: (given.tools ?? []).map((t) => ({
      kind: given.kind,
      stage: given.stage,
      group: '',
      also: '',
      belt: 0,
      brief: t.name,
      place: 9,
      needs: () => null,
      fits: () => true,
      slot: null,
      begins: () => {},
      ...t,
      record: t.record as Tool['record'],
    })),
  }
  return whole as unknown as Kind // the registry knows kinds only by what they have in common
}

export type StageState = 'untouched' | 'begun' | 'sound' | 'wanting'

export type Stage = {
  key: StageKey
  /** What its view shows: the scan it works on, the scans being joined, or scan and model both. */
  view: 'scan' | 'joined' | 'both'
  /** Groups of its tools, in their order. */
  groups: string[]
  /** Shown on the bench with nothing in hand, before its tools. */
  panel: Component | null
  /** Instead of a panel, where it has no tools yet. */
  empty: string
  /** What must be there before it counts as sound, by what stones give. */
  sound: string[]
  /** What it lists of the ledger, by what stones give. */
  ledger: string[]
  /** Its tools as a short row above the panel. */
  slim: boolean
  /** Tools in two columns of names, what each does on hover. */
  columns: boolean
  /** Whether laid drawings are looked at on the paper. */
  paper: boolean
  /** What its view draws with nothing in hand: the plan it would draw, changed. */
  shows: (plan: Plan, room: Room) => Partial<Plan>
  /** A click with nothing in hand that is the stage's own: whether it was taken. */
  takes: (at: Under, room: Room) => boolean
}

export const defineStage = (given: Pick<Stage, 'key'> & Partial<Stage>): Stage => ({
  view: 'scan',
  takes: () => false,
  groups: [],
  panel: null,
  empty: '',
  sound: [],
  ledger: [],
  columns: false,
  slim: false,
  paper: false,
  shows: () => ({}),
  ...given,
})
