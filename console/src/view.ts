// What the pages look at. The platform works out what belongs together (its views); here it is only looked up and written.

import type { EnvironmentView, Objects, Release, Replica, Rollout, Route, RouteView, Service, Signal, TrafficSum, Workload, WorkloadView } from './model'
import { asOf } from './moment'
import type { View } from './store'

export const key = (target: { environment: string; name: string }) => `${target.environment}/${target.name}`
export const short = (replica: { id: string }) => replica.id.slice(replica.id.lastIndexOf('/') + 1)
export const tag = (image: string) => image.slice(image.lastIndexOf(':') + 1)
export const signal = (view: View, kind: 'workload' | 'replica' | 'rollout' | 'source', state: string): Signal =>
  view.signals[kind][state] ?? 'rest'

/** Whether the kernel keeps the node's replicas apart; elsewhere they are ordinary processes. */
export const isolates = (view: View, node: string | null) => node === null || (view.views.nodes[node]?.isolates ?? true)
export const NOT_ISOLATED = 'not isolated'

/** An environment that nothing is known about yet. */
export const NOTHING: EnvironmentView = { needs: [], workloads: {}, services: {}, routes: {}, sources: {}, certificates: {} }
const NONE_SERVED: TrafficSum = { rate: 0, failed: 0, p50: null, p95: null, p99: null }

export const environmentView = (view: View, environment: string): EnvironmentView => view.views.environments[environment] ?? NOTHING
export const served = (of: Record<string, TrafficSum>, name: string): TrafficSum => of[name] ?? NONE_SERVED

/** A route with what the platform worked out about it. */
export type ShownRoute = Route & RouteView

/** A workload with everything that belongs to it. */
export interface Row {
  workload: Workload
  view: WorkloadView
  release: Release | undefined
  rollout: Rollout | undefined
  replicas: Replica[]
  services: Service[]
  routes: ShownRoute[]
  served: TrafficSum
}

function found<T>(names: string[], of: (name: string) => T | undefined): T[] {
  return names.map(of).filter((it) => it !== undefined)
}

/** A route by its name. */
export function route(view: View, environment: string, name: string): ShownRoute | undefined {
  const [object, shown] = [view.objects.route[`${environment}/${name}`], environmentView(view, environment).routes[name]]
  return object && shown && { ...object, ...shown }
}

/** One workload; nothing while the platform has not told what belongs to it. */
export function rowOf(view: View, environment: string, name: string): Row | undefined {
  const objects: Objects = view.objects
  const target = `${environment}/${name}`
  const workload = objects.workload[target]
  const shown = environmentView(view, environment).workloads[name]
  if (workload === undefined || shown === undefined) return undefined
  return {
    workload,
    view: shown,
    release: objects.release[`${target}@${workload.release}`],
    rollout: shown.rollout === null ? undefined : objects.rollout[`${target}@${shown.rollout}`],
    replicas: found(shown.replicas, (id) => objects.replica[id]),
    services: found(shown.services, (service) => objects.service[`${environment}/${service}`]),
    routes: found(shown.routes, (it) => route(view, environment, it)),
    served: served(view.figures.workloads, target),
  }
}

/** Every workload of an environment, by name. */
export function rows(view: View, environment: string): Row[] {
  return found(Object.keys(environmentView(view, environment).workloads), (name) => rowOf(view, environment, name))
}

/** An amount of bytes, in words. */
export const size = (bytes: number) => (bytes < 1024 ? `${Math.round(bytes)} B` : bytes < 1024 * 1024 ? `${(bytes / 1024).toFixed(1)} KiB` : `${(bytes / 1024 / 1024).toFixed(1)} MiB`)
export const millis = (value: number | null | undefined) => (value == null ? '-' : `${value < 10 ? value.toFixed(1) : Math.round(value)} ms`)
export const percent = (part: number, of: number) => (part === 0 || of === 0 ? '' : ` (${((100 * part) / of).toFixed(part * 1000 < of ? 2 : 1)} %)`)

/** A text of the platform as a sentence: with a capital and a full stop, and moments in the person's time zone. */
export function sentence(text: string) {
  const trimmed = local(text.trim())
  return trimmed === '' ? '' : capital(trimmed) + (trimmed.endsWith('.') ? '' : '.')
}

/** A text of the platform with its moments in the person's time zone: it writes each in UTC (RFC 3339). */
export const local = (text: string) => text.replace(/\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ/g, (at) => moment(at))

/** With a capital at its beginning, unless that is a commit's hash. */
export const capital = (text: string) => (/^[0-9a-f]{7,40}\b/.test(text) ? text : text.charAt(0).toUpperCase() + text.slice(1))

/** The time of day with its zone; with the day where it is another one. */
export function moment(iso: string, toTheSecond = false): string {
  const at = new Date(iso)
  const time = at.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', ...(toTheSecond && { second: '2-digit' }), timeZoneName: 'short' })
  return at.toDateString() === new Date().toDateString() ? time : `${at.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })} ${time}`
}

/** A time span in milliseconds, in words. */
export function span(ms: number): string {
  const seconds = Math.max(0, ms / 1000)
  return seconds < 60 ? `${seconds.toFixed(1)} s` : `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`
}

/** From one moment to another, or until now. */
export const duration = (from: string, to: string | null) => span((to === null ? Date.now() : Date.parse(to)) - Date.parse(from))

export function rate(perSecond: number): string {
  // What was served in the past is not kept.
  if (asOf !== null) return '-'
  return `${perSecond >= 10 ? Math.round(perSecond) : perSecond.toFixed(1)}/s`
}
