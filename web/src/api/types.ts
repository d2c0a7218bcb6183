/** The records the server and the screens speak in, by the names its description gives them. */
import type { components } from './schema'

export type Schemas = components['schemas']
export type JobCard = Schemas['JobCard']
export type JobView = Schemas['JobView']
export type Stone = Schemas['Stone']
export type StoneDetail = Schemas['StoneDetail']
export type ValueLine = Schemas['ValueLine']
export type LedgerLine = Schemas['LedgerLine']
export type Suggestion = Schemas['Suggestion']
export type Stamp = Schemas['Stamp']
export type Picked = Schemas['Picked']
export type Trace = Schemas['Trace']
export type Brought = Schemas['Brought']
export type BroughtStudy = Schemas['BroughtStudy']
export type Edges = Schemas['Edges']
export type ProofView = Schemas['ProofView']
export type Who = Schemas['Who']
export type SurveyView = Schemas['SurveyView']
export type StudyView = Schemas['StudyView']
export type Selected = Schemas['Selected']
export type RimView = Schemas['RimView']
export type Layout = Schemas['Layout']

export type Vec3 = [number, number, number]
export type Matrix = number[][]
export type EdgeName = [string, string, string | number]
export type PickRecord = Schemas['Pick']
export type MarkRecord = Schemas['MarkRecord']

/** What a step tells while it is tried; `T` is its kind's own. */
export type Preview<T = Record<string, unknown>> = Omit<Schemas['Preview'], 'summary'> & { summary: T }

/** What is put in hand: a step's record, not yet laid or laid before. */
export type StepRecord = { kind: string; name: string; id?: string } & Record<string, unknown>

/** What every scan's line tells. */
export type ScanLine = Pick<
  Schemas['ScanTold'],
  'is' | 'triangles' | 'points' | 'coloured' | 'bounds' | 'size' | 'says'
>
export type DatumLine = Pick<
  Schemas['DatumTold'],
  'element' | 'roles' | 'parameters' | 'area' | 'length' | 'scatter' | 'facets' | 'says'
>
