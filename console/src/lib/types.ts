/**
 * The API's records as the console uses them. They are generated from `openapi.json` (`npm run types`); their meaning is
 * told there.
 */
import type { components } from "./schema";

/** A record as it is sent: what is not known is absent, never null. Lists of figures have gaps, which stay null. */
type Sent<T> = T extends (infer E)[]
  ? null extends E
    ? T
    : Sent<E>[]
  : T extends object
    ? { [K in keyof T]: Sent<Exclude<T[K], null>> }
    : T;
type Schema<Name extends keyof components["schemas"]> = Sent<components["schemas"][Name]>;

export type State = Schema<"State">;
export type Health = Schema<"Health">;
export type Reason = Schema<"Reason">;
export type Attachment = Schema<"Attachment">;
export type Port = Schema<"Port">;
export type Mount = Schema<"Mount">;
export type Container = Schema<"Container">;
export type LinkProblem = Schema<"LinkProblem">;
export type EngineFacts = Schema<"EngineFacts">;
export type Host = Schema<"Host">;
export type Machine = Schema<"MachineFacts">;
export type Disk = Schema<"Disk">;
export type Variable = Schema<"Variable">;
export type Detail = Schema<"ContainerDetail">;

export type ImageCopy = Schema<"ImageCopy">;
export type ImageRow = Schema<"ImageRow">;
export type ImageDetail = Schema<"ImageDetail">;
export type VolumeRow = Schema<"VolumeRow">;
export type NetworkRow = Schema<"NetworkRow">;
export type ServiceRow = Schema<"ServiceRow">;
export type StackRow = Schema<"StackRow">;
export type PortRow = Schema<"PortRow">;

export type FigureName = Schema<"Figure">;
export type Figures = Schema<"Figures">;
export type CurrentUsage = Schema<"CurrentUsage">;
export type FigureHistory = Schema<"FigureHistory">;
export type History = Schema<"History">;

export type Line = Schema<"Line">;
export type EventKind = Schema<"EventKind">;
export type TimelineEvent = Schema<"TimelineEvent">;
export type Level = Schema<"Level">;
export type SourcedLine = Schema<"SourcedLine">;
export type LogRequest = Partial<Schema<"LogRequest">> & Pick<Schema<"LogRequest">, "references" | "follow">;
export type KeepRule = Schema<"KeepRule">;

export type Right = Schema<"Right">;
export type Role = Schema<"Role">;
export type Grant = Schema<"Grant">;
export type Freeze = Schema<"Freeze">;
export type Snooze = Schema<"Snooze">;
export type Ranking = Schema<"Ranking">;
export type Note = Schema<"Note">;
export type Person = Schema<"Person">;
export type TeamState = Schema<"TeamState">;
export type Directory = Schema<"Directory">;
export type DirectoryTest = Schema<"DirectoryTest">;
export type GroupGrant = Schema<"GroupGrant">;
export type AuditEntry = Schema<"AuditEntry">;
export type Member = Schema<"Member">;
export type MemberDetail = Schema<"MemberDetail">;
export type NewSecondFactor = Schema<"NewSecondFactor">;
export type OwnRights = Schema<"OwnRights">;
export type Invitation = Schema<"Invitation">;
export type CreatedInvitation = Schema<"CreatedInvitation">;
export type Welcome = Schema<"Welcome">;

export type Kind = Schema<"Kind">;
/** Changes that need nothing but containers and a few settings. */
export type PlainKind = Extract<Kind, "start" | "stop" | "restart" | "kill" | "pause" | "resume" | "remove">;
export type ObjectKind = Schema<"ObjectKind">;
export type TargetState = Schema<"TargetState">;
export type Target = Schema<"Target">;
export type Progress = Schema<"Progress">;
export type Operation = Schema<"Operation">;
export type Rolling = Schema<"Rolling">;
export type TidyPiece = Schema<"TidyPiece">;
export type OperationWish = Schema<"NewOperation">;
export type Finding = Schema<"Finding">;
export type TargetPlan = Schema<"TargetPlan">;
export type Preview = Schema<"Preview">;

export type Problem = Schema<"Problem">;
export type Change = Schema<"Change">;
export type FromServer = Schema<"FromServer">;

export type EnvironmentEntry = Schema<"EnvironmentEntry">;
export type PortRule = Schema<"PortRule">;
export type MountRule = Schema<"MountRule">;
export type HealthRule = Schema<"HealthRule">;
export type Limits = Schema<"Limits">;
export type Rights = Schema<"Rights">;
export type NetworkConnection = Schema<"NetworkConnection">;
export type NetworkRule = Schema<"NetworkRule">;
export type Definition = Schema<"Definition">;
export type DefinitionView = Schema<"DefinitionView">;

export type FileNote = Schema<"FileNote">;
export type VariableNote = Schema<"VariableNote">;
export type ServiceNote = Schema<"ServiceNote">;
export type StackReport = Schema<"StackReport">;
export type StackRevision = Schema<"StackRevision">;
export type StackDefinition = Schema<"StackDefinition">;
export type RevisionDifference = Schema<"RevisionDifference">;
export type StackSource = Schema<"StackSource">;
export type DriftRow = Schema<"DriftRow">;
export type Drift = Schema<"Drift">;
export type JobRow = Schema<"JobRow">;
export type JobRun = Schema<"JobRun">;
export type JobRunOutput = Schema<"JobRunOutput">;
export type RunOutcome = Schema<"RunOutcome">;

export type FileEntry = Schema<"FileEntry">;
export type Folder = Schema<"Folder">;
export type FleetFigures = Schema<"FleetFigures">;

/** What is absent is the browser's, or oneself's. */
export type Profile = Omit<Schema<"Profile">, "time_zone" | "works_as"> & {
  time_zone?: string;
  works_as?: string;
};
export type Approval = Schema<"Approval">;
export type SyslogState = Schema<"SyslogState">;
export type SyslogSettings = Schema<"SyslogSettings">;
