// Acts: each one is the API call that the client makes too.

import { local } from './derive'
import type { Commit, LogLine, Origin, Side, Signal, Target, Traffic } from './model'

export class Refused extends Error {}

async function call(method: string, path: string, body?: unknown): Promise<unknown> {
  const answer = await fetch(`/api/v1${path}`, {
    method,
    headers: { 'content-type': 'application/json' },
    body: body === undefined ? undefined : JSON.stringify(body),
  })
  const text = await answer.text()
  if (answer.ok) return text === '' ? null : JSON.parse(text)
  let detail = `the platform answers ${answer.status}`
  try {
    detail = (JSON.parse(text) as { detail?: string }).detail ?? detail
  } catch {
    // not a problem document: the status has to do
  }
  throw new Refused(local(detail))
}

function workload(target: Target, act: string) {
  return `/environments/${target.environment}/workloads/${target.name}${act}`
}

export const scale = (target: Target, replicas: number) => call('POST', workload(target, '/scale'), { replicas })
export const deploy = (target: Target, image: string) => call('POST', workload(target, '/deploy'), { image })
export const rollback = (target: Target, to?: number) => call('POST', workload(target, '/rollback'), { to })
/** `hold`, `resume`, `advance`, `cancel`, `restart`. */
export const steer = (target: Target, act: string, body: object = {}) => call('POST', workload(target, `/${act}`), body)
export const keep = (target: Target, release: number, keep: boolean) => call('POST', workload(target, '/keep'), { release, keep })

export interface Difference {
  field: string
  before: string | null
  after: string | null
}
export const compare = async (from: string, to: string) =>
  ((await call('GET', `/compare?from=${encodeURIComponent(from)}&to=${encodeURIComponent(to)}`)) as { differences: Difference[] }).differences
export const logsPath = (target: Target, tail: number) => `/api/v1${workload(target, `/logs?follow=true&tail=${tail}`)}`
/** The last lines that a replica of a release wrote; they are kept of one that is gone where its release failed. */
export async function lastLines(target: Target, release: number, replica: string, count: number): Promise<string[]> {
  const answer = await fetch(`/api/v1${workload(target, `/logs?release=${release}&replica=${replica}&tail=${count}`)}`)
  if (!answer.ok) return []
  const lines = (await answer.text()).split('\n').filter((line) => line !== '')
  return lines.map((line) => JSON.parse(line) as LogLine).filter((line) => line.source !== 'k').map((line) => line.text)
}

/** What is not as it was at a moment. */
export interface Became {
  kind: string
  key: string
  change: 'add' | 'change' | 'remove'
  fields?: Difference[]
  origin?: Origin
}
export const since = async (asOf: string, environment: string) =>
  ((await call('GET', `/since?as_of=${encodeURIComponent(asOf)}&environment=${environment}`)) as { became: Became[] }).became

/** What is asked of a declaration: files in, changes out. */
export const declare = (environment: string, text: string) => call('POST', '/declare', { environment, files: [{ name: 'mainyard.toml', text }] })
/** What an image says of itself. */
export const imageConfig = async (image: string) => (await call('GET', `/images/config?image=${encodeURIComponent(image)}`)) as { ports: number[]; command: string[] }

/** The way from the outside in, as far as it goes, and the first true cause. */
export interface Why {
  of: string
  answers: boolean
  steps: { part: string; name: string; says: string; signal: Signal }[]
  cause: { code: string; sentence: string; fix: string }
  also?: string[]
  output?: string[]
}
export const why = async (of: string) => (await call('GET', `/why?of=${encodeURIComponent(of)}`)) as Why

/** What was served, told apart by `route`, `service`, `release` or `replica`. */
export const traffic = async (by: string, of: string) => (await call('GET', `/traffic?by=${by}&of=${encodeURIComponent(of)}`)) as Traffic[]

function source(target: Target, act: string) {
  return `/environments/${target.environment}/sources/${target.name}${act}`
}

export interface Ahead {
  commit: Commit
  changes: { kind: 'add' | 'change' | 'remove'; object: string; words: string }[]
  forecast?: { words?: string }
}
export interface Written {
  commit: string | null
  message?: string
  difference: string
  left: string[]
  pushed: string | null
}
export const sides = async (target: Target) => ((await call('GET', source(target, '/compare'))) as { rows: Side[] }).rows
export const catchUp = async (target: Target, remove: boolean, forecast: boolean) => (await call('POST', source(target, `/catch-up${forecast ? '?forecast=true' : ''}`), { remove })) as Ahead
export const lookNow = (target: Target) => call('POST', source(target, '/look'), {})
export const holdSource = (target: Target, because: string) => call('POST', source(target, '/hold'), { because })
export const resumeSource = async (target: Target, forecast: boolean) => ((await call('POST', source(target, `/resume${forecast ? '?forecast=true' : ''}`))) as { words: string[] }).words
export const writeBack = async (target: Target, push: boolean) => (await call('POST', source(target, '/write-back'), { push })) as Written

/** A token or a session, without what it lets in by. */
export interface Credential {
  id: string
  name: string
  scope: 'client' | 'part' | 'session'
  member: string
  part: string | null
  created: string
  expires: string | null
  last_used: string | null
  current: boolean
}
export const tokens = async () => (await call('GET', '/tokens')) as Credential[]
export const removeToken = async (id: string): Promise<void> => { await call('DELETE', `/tokens/${id}`) }
export const signOut = () => call('POST', '/sign-out', {})
