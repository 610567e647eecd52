/** The API's types, made from its OpenAPI document (`npm run types`). */
import type { components } from './schema'

type Schemas = components['schemas']
export type Account = Schemas['Account']
export type AtLimit = Schemas['AtLimit']
export type Destination = Schemas['Destination']
export type EnrolmentCode = Schemas['EnrolmentCode']
export type Event = Schemas['Event']
export type IssuedCode = Schemas['IssuedCode']
export type Job = Schemas['Job']
export type Keeping = Schemas['Keeping']
export type Order = Schemas['Order']
export type Outcome = Schemas['Outcome']
export type Overview = Schemas['Overview']
export type Point = Schemas['Point']
export type Problem = Schemas['Problem']
export type Progress = Schemas['Progress']
export type Restore = Schemas['Restore']
export type Role = Schemas['Role']
export type Rule = Schemas['Rule']
export type Run = Schemas['Run']
export type ServiceInfo = Schemas['ServiceInfo']
export type SignedIn = Schemas['SignedIn']
export type Soundness = Schemas['Soundness']
export type ThinningPreview = Schemas['ThinningPreview']
export type Verdict = Schemas['Verdict']
export type WayIn = Schemas['WayIn']
export type Workstation = Schemas['Workstation']
export type WorkstationState = Schemas['WorkstationState']
export interface Page<T> {
  items: T[]
  next?: string | null
}
