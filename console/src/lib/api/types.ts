// The API's types by the names that the console uses. They are generated from the OpenAPI document (docs/reference/openapi.json) into
// schema.ts when the console is built; nothing of them is written here by hand.

import type { components } from './schema'

type Schemas = components['schemas']

/** A value of a key: what JSON holds. */
export type Json = string | number | boolean | null | Json[] | { [key: string]: Json }
export type Keys = { [key: string]: Json }
/** The keys of an object are what its kind says; the OpenAPI document leaves that to the document's own schema. */
type WithKeys<T> = T extends unknown ? ('keys' extends keyof T ? Omit<T, 'keys'> & { keys: Keys } : T) : never

export type Accepted = Schemas['Acceptance']
export type Between = Schemas['Between']
export type Change = Schemas['NamedChange']
export type Diagnosis = Schemas['Diagnosis']
export type FrontendDiagnosis = Schemas['FrontendDiagnosis']
export type Draft = Schemas['Draft']
export type DraftReview = Schemas['DraftReview']
export type DrainState = Schemas['DrainProgress']
export type DutiesResponse = Schemas['DutiesResponse']
export type Duty = Schemas['Duty']
export type DutyTerms = Schemas['DutyRequest']
export type Edit = WithKeys<Schemas['Edit']>
export type EventKind = Schemas['EventKind']
export type Evidence = Schemas['Evidence']
export type Explanation = Schemas['ExplainResponse']
export type LimitView = Schemas['LimitView']
export type Limits = Schemas['Limits']
export type AddressDetail = Schemas['AddressDetail']
export type AddressNode = Schemas['AddressNode']
export type AddressOrderRequest = Schemas['AddressOrderRequest']
export type AddressStatus = Schemas['AddressStatus']
export type Addresses = Schemas['Addresses']
export type AnnouncedRoute = Schemas['AnnouncedRoute']
export type AnnouncementDetail = Schemas['AnnouncementDetail']
export type AnnouncementNode = Schemas['AnnouncementNode']
export type AnnouncementStatus = Schemas['AnnouncementStatus']
export type Announcements = Schemas['Announcements']
export type NodeOrderRequest = Schemas['NodeOrderRequest']
export type NodeView = Schemas['NodeView']
export type MachineFinding = Schemas['MachineFinding']
export type MachineReport = Schemas['MachineReport']
export type Nodes = Schemas['Nodes']
export type Refusals = Schemas['Refusals']
export type RuleCounts = Schemas['RuleCounts']
export type RuleTrace = Schemas['RuleTrace']
export type Fact = Schemas['Event']
export type FrontendStatus = Schemas['FrontendStatus']
export type HealthState = Schemas['HealthState']
export type HostView = Schemas['HostView']
export type Hosts = Schemas['Hosts']
export type Kind = Schemas['ObjectKind']
export type LookupStatus = Schemas['LookupStatus']
export type Mark = Schemas['ProbeRecord']
export type ObjectView = WithKeys<Schemas['ObjectView']>
export type Objects = Omit<Schemas['Objects'], 'objects'> & { objects: ObjectView[] }
export type OpenWork = Schemas['OpenWork']
export type Order = Schemas['DutyOrder']
export type Pins = Schemas['Pins']
export type PinKeyTimes = Schemas['PinKeyTimes']
export type Certificate = Schemas['CertificateView']
export type Handshakes = Schemas['Handshakes']
export type PoolStatus = Schemas['PoolStatus']
export type Probes = Schemas['Probes']
export type Problem = Schemas['Problem']
export type Review = Schemas['Review']
export type RevisionHead = Schemas['RevisionHead']
export type Rung = Schemas['DiagnosisStep']
export type SentMessage = Schemas['SentMessage']
export type ServerStatus = Schemas['ServerStatus']
export type Status = Schemas['Status']
export type Step = Schemas['ProbeStep']
export type TallyRow = Schemas['TallyRow']
export type Timing = Schemas['DetectionTiming']
export type Tokens = Schemas['Tokens']
export type Totals = Schemas['Totals']
export type Trial = Schemas['Trial']
export type TrialRequest = Schemas['TrialRequest']
export type TryAnswer = Schemas['TryResponse']
export type Warned = Schemas['AcceptedWarning']
export type MaintenanceWindow = Schemas['WindowView']
export type Roll = Schemas['RollView']
export type RollPlan = Schemas['RollPlan']
export type RollStep = Schemas['RollStep']
export type WindowAnswer = Schemas['WindowResponse']
export type WindowPlan = Schemas['WindowPlan']
export type Windows = Schemas['Windows']

/** The kinds of events, in the order in which the console offers them. */
export const EVENT_KINDS = [
  'health',
  'duty',
  'revision',
  'draft',
  'lookup',
  'tier',
  'traffic',
  'node',
  'trial',
  'notification',
  'token',
  'window',
  'roll',
] as const satisfies readonly EventKind[]
