// Short names for the API's types, and the words that it uses where its document says string.
import type { Schemas } from './client'

export type Domain = Schemas['DomainView']
export type DomainDetail = Schemas['DomainDetail']
export type Report = Schemas['DelegationReport']
export type Source = Schemas['DelegationSource']
export type ResolverView = Schemas['DelegationView']
export type Finding = Schemas['FindingFinding']
export type Revision = Schemas['StoreRevision']
export type Found = Schemas['RulesFound']
export type Difference = Schemas['Difference']
export type DiffItem = Schemas['DiffItem']
export type Step = Schemas['ChangeStep']
export type RecordSet = Schemas['RecordSet']
export type DnsRecord = Schemas['RecordRecord']
export type Sync = Schemas['SyncView']
export type Host = Schemas['HostView']
export type HostReport = Schemas['ReportView']
export type Entry = Schemas['StoreEntry']
export type Account = Schemas['StoreAccount']
export type Defined = Schemas['Defined']
export type Delegated = Schemas['Delegated']
export type Stage = Schemas['HandoverStage']
export type DefinitionFile = Schemas['DefinitionFile']

export type Verdict = 'settled' | 'settling' | 'wrong' | 'undelegated' | 'unknown' | ''
