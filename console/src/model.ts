// The objects of the record, as the API sends them.

export type Signal = 'good' | 'moving' | 'caution' | 'fault' | 'rest'

export interface Reason {
  code: string
  sentence: string
}

export interface Origin {
  by: string
  act: string
  at: string
  /** The commit that it follows. */
  commit?: string
}

export interface Target {
  environment: string
  name: string
}

export interface Environment {
  name: string
  domain?: string
  origin: Origin
}

export interface Workload {
  target: Target
  application: string
  wanted: number
  wanted_origin: Origin
  rule: Rule
  release: number
  settled: number | null
  last_change: Origin
  state: string
  reason: Reason | null
  since: string
  held: { because: string; origin: Origin } | null
  kept?: Record<string, Origin>
}

/** How a workload moves to new releases. */
export interface Rule {
  style: 'rolling' | 'stepped' | 'swap'
  may_exceed: number
  may_lack: number
  settle: string
  deadline: string
  on_failure: 'go-back' | 'hold'
  steps?: { share?: number; count?: number; watch?: string; then?: 'ask' }[]
  keep_old: string
}

export interface Check {
  path?: string
  port?: string
  connect?: string
  every: string
  within: string
}

/** The value of a secret, of this version or of the newest when the release was made. */
export interface SecretUse {
  secret: string
  version?: number
}

export type Setting = string | SecretUse

export interface Release {
  workload: Target
  number: number
  spec: {
    image: string
    ports: Record<string, number>
    labels: Record<string, string>
    settings: Record<string, Setting>
    files?: Record<string, SecretUse>
    limits: { cpu: number; memory: string; processes: number }
    reserve: { cpu: number; memory: string }
    command: string[] | null
    stop: { drain: string; grace: string }
    checks: { ready?: Check; alive?: Check }
  }
  digest: string | null
  /** The version that each secret stood for when it was made. */
  secrets?: Record<string, number>
  same_as: number | null
  origin: Origin
}

export interface Rollout {
  workload: Target
  from: number | null
  to: number
  state: string
  started: string
  ended: string | null
  reason: Reason | null
  verdict: string | null
  evidence: { served: number; failed: number; new: Seen; old: Seen; copies: Seen; copied: Seen; other_size: number; outlived?: Record<string, number> }
  shadow: 'before' | 'copying' | 'passed'
  purpose: 'change' | 'back' | 'restart'
  /** Of 1,000 requests so many go to the new release; by the number of replicas where none is set. */
  share: number | null
  step: number
  warm_until: string | null
  first?: FirstRun
}

/** The command that ran once before the release served. */
export interface FirstRun {
  state: 'due' | 'running' | 'passed' | 'failed' | 'unknown' | 'waived'
  began?: string
  ended?: string
  node?: string
  how?: string
  waived?: Origin
}

/** What one release answered while a rollout moved; times by bucket, each up to 2^(n/2) tenths of a millisecond. */
export interface Seen {
  requests: number
  failed: number
  times: Record<string, number>
}

export interface Replica {
  id: string
  release: number
  node: string | null
  address: string | null
  state: string
  reason: Reason | null
  since: string
  created: string
  restarts: number
  /** Set where it is the one run of a release's `run_first`, and serves nothing. */
  once?: object
}

export interface Service {
  target: Target
  application: string
  select: Record<string, string>
  ports: Record<string, string | { port: string; speaks: string }>
  open_to?: string[]
  address: string
}

export interface Route {
  target: Target
  host?: string
  port?: number
  path?: string
  exact?: boolean
  methods?: string[]
  headers?: Record<string, string>
  to: { service: string; port?: number; share: number }[]
  redirect?: { to: string; status: number }
  tls?: { certificate?: string; http?: string; onward?: string; untouched?: boolean }
  enter?: unknown
  rate?: { requests: number; every: string }
}

/** A chain that hosts are served with, or that says whom to trust. */
export interface Certificate {
  target: Target
  names: string[]
  from: string
  until: string
  issuer: string
  fingerprint: string
  /** Where its key is kept; of one that only says whom to trust there is none. */
  sealed?: string
  origin: Origin
}

export interface Image {
  image: string
  digest: string
  size: number
  origin: Origin
}

export interface Commit {
  id: string
  by: string
  at: string
  subject: string
}

/** A folder of a Git repository that an environment follows. */
export interface Source {
  target: Target
  url: string
  at: string
  folder?: string
  look_every: string
  git_newer: 'ask' | 'take'
  live_changed: 'report' | 'restore'
  gone_from_git: 'keep' | 'ask' | 'remove'
  application: string | null
  seen: Commit | null
  applied: Commit | null
  commits?: Commit[]
  state: string
  reason: Reason | null
  since: string
  differs?: string[]
  problems?: { place: { file: string; line: number; column: number }; message: string }[]
  catching_up?: { commit: Commit; origin: Origin; waits_for?: string }
  set_back?: { commit: string; because: string }
  yields?: { what: Record<string, string>; origin: Origin }[]
  held?: { because: string; origin: Origin }
}

/** One field in which Git, what is declared here and what runs differ. */
export interface Side {
  object: string
  field: string
  git: string | null
  here: string | null
  running: string | null
}

export interface Node {
  name: string
  /** Where its replicas are reached; loopback where they are ordinary processes. */
  range: string
}

export interface Figure {
  way: string
  inside: boolean
  service: string
  workload: string
  release: number
  replica: string
  /** Requests that are open now. */
  open: number
  rate: number
  failed: number
  p50: number | null
  p95: number | null
  p99: number | null
  /** Bytes a second of requests' and answers' bodies. */
  received: number
  sent: number
}

/** What was served in the last ten seconds and the last quarter of an hour; what it is not told apart by is empty. */
export interface Traffic extends Figure {
  points: Point[]
}

export interface Point {
  at: number
  requests: number
  failed: number
  /** The time that 95 of 100 requests took at most, in milliseconds. */
  p95?: number
}

export interface Kinds {
  environment: Environment
  workload: Workload
  release: Release
  rollout: Rollout
  replica: Replica
  service: Service
  route: Route
  certificate: Certificate
  source: Source
  image: Image
  gateway: { name: string; closed_ports?: Record<string, string> }
  node: Node
}

export type Kind = keyof Kinds
export type Objects = { [K in Kind]: Record<string, Kinds[K]> }

export interface Snapshot {
  cursor: number
  /** Whether replicas are known; of a moment long past they are not. */
  whole: boolean
  member: string
  gateway: string
  gateway_tls: string
  objects: Objects
  signals: Record<'workload' | 'replica' | 'rollout' | 'source', Record<string, Signal>>
  figures: Figure[]
  series: Record<string, Point[]>
}

/** One act's change, as the trail tells it. */
export interface TrailEntry {
  number: number
  kind: Kind
  key: string
  at: string
  cause: Origin
  /** What it came to, in few words. */
  so_that: string
}

export interface LogLine {
  at: number
  replica: string
  source: 'o' | 'e' | 'k'
  text: string
}

/** What the pages look at. */
export interface View extends Snapshot {
  /** Since when the stream is cut; null while it lives. */
  lostSince: number | null
  /** The number of the last change that a person caused. */
  lastAct: number
  /** When the figures were read. */
  now: number
}
