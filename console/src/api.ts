// Calls of the API: paths, parameters, bodies and answers have the types of the OpenAPI document.

import createClient from 'openapi-fetch'

import { asOf } from './moment'
import { local } from './view'
import type { BuildEvent, LogLine, Target } from './model'
import type { components, paths } from './schema'

export class Refused extends Error {}

const client = createClient<paths>()

interface Reply<T> {
  data?: T
  error?: components['schemas']['Problem'] | string
  response: Response
}

/** What was answered; a refusal is thrown with the platform's own words. */
async function answer<T>(call: Promise<Reply<T>>): Promise<T> {
  const { data, error, response } = await call
  if (response.ok) return data as T
  const detail = typeof error === 'object' ? error.detail : `the platform answers ${response.status}`
  throw new Refused(local(detail))
}

/** A path that names something in an environment. */
const of = ({ environment, name }: Target) => ({ environment, name })
const at = (target: Target, forecast = false) => ({ params: { path: of(target), query: { forecast } } })

const WORKLOAD = '/api/v1/environments/{environment}/workloads/{name}'
type Body<K extends keyof components['schemas']> = components['schemas'][K]

export const scale = (target: Target, body: Body<'NewScale'>, forecast = false) => answer(client.POST(`${WORKLOAD}/scale`, { ...at(target, forecast), body }))
export const deploy = (target: Target, body: Body<'NewDeploy'>, forecast = false) => answer(client.POST(`${WORKLOAD}/deploy`, { ...at(target, forecast), body }))
export const rollback = (target: Target, to?: number, forecast = false) => answer(client.POST(`${WORKLOAD}/rollback`, { ...at(target, forecast), body: to === undefined ? {} : { to } }))
export const hold = (target: Target, because: string, forecast = false) => answer(client.POST(`${WORKLOAD}/hold`, { ...at(target, forecast), body: { because } }))
export const resume = (target: Target, forecast = false) => answer(client.POST(`${WORKLOAD}/resume`, at(target, forecast)))
export const advance = (target: Target, forecast = false) => answer(client.POST(`${WORKLOAD}/advance`, at(target, forecast)))
export const cancel = (target: Target, forecast = false) => answer(client.POST(`${WORKLOAD}/cancel`, at(target, forecast)))
export const restart = (target: Target, forecast = false) => answer(client.POST(`${WORKLOAD}/restart`, at(target, forecast)))
export const keep = (target: Target, release: number, keep: boolean) => answer(client.POST(`${WORKLOAD}/keep`, { ...at(target), body: { release, keep } }))

export const compare = async (from: string, to: string) => (await answer(client.GET('/api/v1/compare', { params: { query: { from, to } } }))).differences
export const since = async (moment: string, environment: string) => (await answer(client.GET('/api/v1/since', { params: { query: { as_of: moment, environment } } }))).became
export const trail = (query: paths['/api/v1/trail']['get']['parameters']['query']) => answer(client.GET('/api/v1/trail', { params: { query } }))
export const why = (of: string) => answer(client.GET('/api/v1/why', { params: { query: { of } } }))
/** Whether a workload reaches a destination outside, and why not. */
export const wayTo = (of: string, to: string) => answer(client.GET('/api/v1/why', { params: { query: { of, to } } }))
export const outgoing = (target: Target) => answer(client.GET(`${WORKLOAD}/outgoing`, { params: { path: of(target) } }))
export const traffic = (by: string, of: string) => answer(client.GET('/api/v1/traffic', { params: { query: { by, of } } }))
export const usage = () => answer(client.GET('/api/v1/stats'))

export const logsPath = (target: Target, tail: number) => `/api/v1/environments/${target.environment}/workloads/${target.name}/logs?follow=true&tail=${tail}`
/** The last lines that a replica of a release wrote; they are kept of one that is gone where its release failed. */
export async function lastLines(target: Target, release: number, replica: string, count: number): Promise<string[]> {
  const { data, response } = await client.GET(`${WORKLOAD}/logs`, { params: { path: of(target), query: { release, replica, tail: count } }, parseAs: 'text' })
  if (!response.ok) return []
  const lines = (data ?? '').split('\n').filter((line) => line !== '')
  return lines.map((line) => JSON.parse(line) as LogLine).filter((line) => line.source !== 'k').map((line) => line.text)
}

/** What is asked of a declaration: files in, changes out. */
export const declare = (environment: string, text: string, forecast = false) =>
  answer(client.POST('/api/v1/declare', { params: { query: { forecast } }, body: { environment, exact: false, files: [{ name: 'mainyard.toml', text }] } }))
/** The images in the store, as they are or were. */
export const images = () => answer(client.GET('/api/v1/images', { params: { query: asOf === null ? {} : { as_of: asOf } } }))
export const image = (image: string) => answer(client.GET('/api/v1/images/details', { params: { query: { image } } }))
export const compareImages = (image: string, other: string) => answer(client.GET('/api/v1/images/compare', { params: { query: { image, other } } }))
export const pruneImages = (keep: number, older_than: number, forecast: boolean) => answer(client.POST('/api/v1/images/prune', { params: { query: { keep, older_than, forecast } } }))
/** Images that nodes fetch now, with how far they are. */
export const fetches = () => answer(client.GET('/api/v1/images/fetches'))
export const storage = () => answer(client.GET('/api/v1/images/storage'))
export const addRegistry = (registry: string, body: Body<'NewRegistry'>, forecast = false) => answer(client.PUT('/api/v1/registries/{registry}', { params: { path: { registry }, query: { forecast } }, body }))
export const registries = () => answer(client.GET('/api/v1/registries'))
export const pulls = () => answer(client.GET('/api/v1/images/pulls'))
/** What an image says of itself. */
export const imageConfig = (image: string) => answer(client.GET('/api/v1/images/config', { params: { query: { image } } }))

const SOURCE = '/api/v1/environments/{environment}/sources/{name}'
export const sides = async (target: Target) => (await answer(client.GET(`${SOURCE}/compare`, { params: { path: of(target) } }))).rows
export const catchUp = (target: Target, remove: boolean, forecast: boolean) => answer(client.POST(`${SOURCE}/catch-up`, { ...at(target, forecast), body: { remove } }))
export const lookNow = (target: Target) => answer(client.POST(`${SOURCE}/look`, { params: { path: of(target) } }))
export const holdSource = (target: Target, because: string) => answer(client.POST(`${SOURCE}/hold`, { ...at(target), body: { because } }))
export const resumeSource = async (target: Target, forecast: boolean) => (await answer(client.POST(`${SOURCE}/resume`, at(target, forecast)))).words
export const writeBack = (target: Target, push: boolean) => answer(client.POST(`${SOURCE}/write-back`, { params: { path: of(target) }, body: { push } }))

export const secrets = () => answer(client.GET('/api/v1/secrets'))
export const addSecret = (target: Target, value: string) =>
  answer(client.PUT('/api/v1/environments/{environment}/secrets/{name}', { ...at(target), body: value, bodySerializer: (text) => text, headers: { 'content-type': 'application/octet-stream' } }))
export const removeSecret = (target: Target, forecast = false) => answer(client.DELETE('/api/v1/environments/{environment}/secrets/{name}', at(target, forecast)))
export const certificates = () => answer(client.GET('/api/v1/certificates'))
export const addCertificate = (target: Target, body: Body<'NewCertificate'>) => answer(client.PUT('/api/v1/environments/{environment}/certificates/{name}', { ...at(target), body }))
export const removeCertificate = (target: Target, forecast = false) => answer(client.DELETE('/api/v1/environments/{environment}/certificates/{name}', at(target, forecast)))

export const tokens = () => answer(client.GET('/api/v1/tokens'))
export const removeToken = (id: string) => answer(client.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } }))
export const signOut = () => answer(client.POST('/api/v1/sign-out'))

export const code = () => answer(client.GET('/api/v1/code'))
export const skeleton = (like: string, name: string) => answer(client.GET('/api/v1/skeletons/{like}', { params: { path: { like }, query: { name } } }))
export const makeCode = (target: Target, like: string) => answer(client.POST('/api/v1/environments/{environment}/code/{name}', { params: { path: of(target) }, body: { like } }))

export const builds = () => answer(client.GET('/api/v1/builds'))
export const build = (number: number) => answer(client.GET('/api/v1/builds/{build}', { params: { path: { build: number } } }))
export const cancelBuild = (number: number) => answer(client.POST('/api/v1/builds/{build}/cancel', { params: { path: { build: number } } }))

/** Follows a build until it has ended, or nobody wants to know any more. */
export async function followBuild(number: number, signal: AbortSignal, take: (event: BuildEvent) => void): Promise<void> {
  const answered = await fetch(`/api/v1/builds/${number}/events`, { signal }).catch(() => null)
  const reader = answered?.ok === true ? answered.body?.pipeThrough(new TextDecoderStream()).getReader() : undefined
  let partial = ''
  for (let piece = await next(reader); piece !== undefined; piece = await next(reader)) {
    const lines = (partial + piece).split('\n')
    partial = lines.pop() ?? ''
    lines.filter((line) => line !== '').forEach((line) => { take(JSON.parse(line) as BuildEvent) })
  }
}

async function next(reader: ReadableStreamDefaultReader<string> | undefined): Promise<string | undefined> {
  return (await reader?.read().catch(() => undefined))?.value
}
