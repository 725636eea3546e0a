// What the pages show, worked out from the record's objects.

import type { Objects, Release, Replica, Rollout, Route, Seen, Service, Signal, Workload } from './model'
import { asOf } from './moment'
import type { View } from './store'

export const key = (target: { environment: string; name: string }) => `${target.environment}/${target.name}`
export const short = (replica: Replica) => replica.id.slice(replica.id.lastIndexOf('/') + 1)
export const tag = (image: string) => image.slice(image.lastIndexOf(':') + 1)
export const signal = (view: View, kind: 'workload' | 'replica' | 'rollout' | 'source', state: string): Signal =>
  view.signals[kind][state] ?? 'rest'

/** Whether the kernel keeps the node's replicas apart; elsewhere they are ordinary processes. */
export const isolates = (view: View, node: string | null) => node === null || !(view.objects.node[node]?.range ?? '').startsWith('127.')
export const NOT_ISOLATED = 'not isolated'

/** A service's address as replicas see it: with one node, its place in that node's range. */
export function insideAddress(view: View, service: Service) {
  const [only, ...others] = Object.values(view.objects.node)
  if (only === undefined || others.length > 0) return service.address
  return [...only.range.split('.').slice(0, 2), ...service.address.split('.').slice(2)].join('.')
}

const OPEN = new Set(['starting', 'shifting', 'settling', 'awaiting', 'going-back'])
export const isOpen = (rollout: Rollout | undefined) => rollout !== undefined && OPEN.has(rollout.state)

/** Whether a step is done and a person is asked before the next. */
export const asks = (rollout: Rollout | undefined) => rollout?.state === 'awaiting' && rollout.reason?.code === 'asks-first'

/** The two releases of a move in the order in which it goes: "6 → 7". */
export function moves(row: Row): [number, number] | null {
  const { rollout } = row
  if (rollout === undefined || !isOpen(rollout) || rollout.from === null) return null
  return rollout.state === 'going-back' ? [rollout.to, rollout.from] : [rollout.from, rollout.to]
}

/** The time that this part of the requests took at most, in milliseconds. */
export function percentile(seen: Seen, part: number): number | null {
  const buckets = Object.entries(seen.times).map(([bucket, count]) => [Number(bucket), count] as const).sort((a, b) => a[0] - b[0])
  const rank = Math.max(1, Math.ceil(buckets.reduce((sum, [, count]) => sum + count, 0) * part))
  let passed = 0
  for (const [bucket, count] of buckets) {
    passed += count
    if (passed >= rank) return 2 ** (bucket / 2) / 10
  }
  return null
}

export const millis = (value: number | null) => (value === null ? '-' : `${value < 10 ? value.toFixed(1) : Math.round(value)} ms`)
export const percent = (part: number, of: number) => (part === 0 || of === 0 ? '' : ` (${((100 * part) / of).toFixed(part * 1000 < of ? 2 : 1)} %)`)

function selects(service: Service, workload: Workload, release: Release | undefined) {
  const wanted = Object.entries(service.select)
  const labels = release?.spec.labels ?? {}
  return (
    service.target.environment === workload.target.environment &&
    wanted.length > 0 &&
    wanted.every(([name, value]) => (name === 'workload' ? workload.target.name : labels[name]) === value)
  )
}

export interface Row {
  workload: Workload
  release: Release | undefined
  rollout: Rollout | undefined
  replicas: Replica[]
  ready: number
  services: Service[]
  routes: Route[]
  rate: number
}

function bySomething<T>(items: T[], of: (item: T) => string): Map<string, T[]> {
  const map = new Map<string, T[]>()
  for (const item of items) {
    const name = of(item)
    const list = map.get(name)
    if (list) list.push(item)
    else map.set(name, [item])
  }
  return map
}

function order(a: Replica, b: Replica) {
  return a.release - b.release || a.created.localeCompare(b.created) || a.id.localeCompare(b.id, 'en', { numeric: true })
}

/** Every workload of an environment with all that belongs to it. */
export function rows(view: View, environment: string): Row[] {
  const objects: Objects = view.objects
  const replicas = bySomething(Object.values(objects.replica).filter((replica) => replica.once === undefined), (replica) => replica.id.slice(0, replica.id.lastIndexOf('/')))
  // Everything is looked up, nothing searched for: a board may have thousands of rows.
  const services = bySomething(
    Object.values(objects.service).filter((service) => service.target.environment === environment),
    (service) => service.select.workload ?? '',
  )
  const routes = new Map<string, Route[]>()
  for (const route of Object.values(objects.route)) {
    if (route.target.environment !== environment) continue
    for (const { service: name } of route.to) routes.set(name, [...(routes.get(name) ?? []), route])
  }
  const newest = new Map<string, Rollout>()
  for (const rollout of Object.values(objects.rollout)) {
    const target = key(rollout.workload)
    if ((newest.get(target)?.to ?? 0) < rollout.to) newest.set(target, rollout)
  }
  const rates = new Map<string, number>()
  for (const figure of view.figures) rates.set(figure.workload, (rates.get(figure.workload) ?? 0) + figure.rate)
  return Object.values(objects.workload)
    .filter((workload) => workload.target.environment === environment)
    .sort((a, b) => a.target.name.localeCompare(b.target.name))
    .map((workload) => {
      const target = key(workload.target)
      const release = objects.release[`${target}@${workload.release}`]
      const own = (replicas.get(target) ?? []).sort(order)
      const near = [...(services.get(workload.target.name) ?? []), ...(services.get('') ?? [])]
      const mine = near.filter((service) => selects(service, workload, release))
      return {
        workload,
        release,
        rollout: newest.get(target),
        replicas: own,
        ready: own.filter((replica) => replica.state === 'ready').length,
        services: mine,
        routes: [...new Set(mine.flatMap((service) => routes.get(service.target.name) ?? []))],
        rate: rates.get(target) ?? 0,
      }
    })
}

export interface Need {
  row: Row
  signal: Signal
  word: string
  headline: string
  detail: string
}

/** What needs a person, the worst first. */
export function needs(view: View, list: Row[]): Need[] {
  return list
    .map((row) => ({ row, signal: signal(view, 'workload', row.workload.state) }))
    .filter(({ row, signal }) => signal === 'fault' || signal === 'caution' || row.workload.held !== null || asks(row.rollout))
    .map(({ row, signal }): Need => {
      const { reason, held, state } = row.workload
      if (signal !== 'fault' && held !== null) {
        return { row, signal: 'caution', word: 'held', headline: ' is held.', detail: sentence(`${held.because}, says ${held.origin.by} since ${moment(held.origin.at)}`) }
      }
      const awaiting = row.rollout?.state === 'awaiting' && row.rollout.from !== null
      if (awaiting) {
        const detail = asks(row.rollout) ? row.rollout?.reason?.sentence : row.rollout?.verdict
        return { row, signal: signal === 'fault' ? 'fault' : 'caution', word: signal === 'fault' ? state : 'awaiting', headline: ' waits for a person.', detail: sentence(detail ?? '') }
      }
      const detail = reason?.sentence ?? `${row.ready} of ${row.workload.wanted} ready`
      return { row, signal, word: state, headline: ` ${headlines[reason?.code ?? ''] ?? 'is not as it should be'}.`, detail: sentence(detail) }
    })
    .sort((a, b) => Number(b.signal === 'fault') - Number(a.signal === 'fault'))
}

export interface OtherNeed {
  /** Where it is seen. */
  to: string
  name: string
  signal: Signal
  word: string
  detail: string
}

/** What needs a person beside workloads: ports that the gateway cannot listen on, and sources. */
export function otherNeeds(view: View, environment: string): OtherNeed[] {
  const closed = Object.assign({}, ...Object.values(view.objects.gateway).map((gateway) => gateway.closed_ports ?? {})) as Record<string, string>
  const routes = Object.values(view.objects.route).filter((route) => route.target.environment === environment)
  const ports = routes.flatMap((route): OtherNeed[] => {
    const why = route.port === undefined ? undefined : closed[route.port]
    if (why === undefined) return []
    return [{ to: `/${environment}/-/routes`, name: `route ${route.target.name}`, signal: 'fault', word: 'closed', detail: sentence(`the gateway cannot listen on port ${route.port}: ${why}`) }]
  })
  const sources = Object.values(view.objects.source).filter((source) => source.target.environment === environment)
  const behind = sources.flatMap((source): OtherNeed[] => {
    const of = signal(view, 'source', source.state)
    const place = { to: `/${environment}/-/sources`, name: `source ${source.target.name}` }
    if (source.held != null) return [{ ...place, signal: 'caution', word: 'held', detail: sentence(`${source.held.because}, says ${source.held.origin.by} since ${moment(source.held.origin.at)}`) }]
    if (of !== 'caution' && of !== 'fault') return []
    return [{ ...place, signal: of, word: source.state, detail: sentence(source.reason?.sentence ?? 'see what differs') }]
  })
  return [...ports, ...behind]
}

const headlines: Record<string, string> = {
  'out-of-memory': 'is killed for memory',
  'keeps-ending': 'keeps ending',
  'port-silent': 'does not listen where it should',
  'image-not-found': 'has no image to run',
  'image-unusable': 'has an image that cannot be used',
  'no-room': 'finds no room on any node',
  'cannot-start': 'cannot be started',
  'check-fails': 'fails its check',
  'keeper-lost': 'lost its keeper',
}

function sentence(text: string) {
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

export function duration(from: string, to: string | null): string {
  const seconds = Math.max(0, ((to === null ? Date.now() : Date.parse(to)) - Date.parse(from)) / 1000)
  return seconds < 60 ? `${seconds.toFixed(1)} s` : `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`
}

export function rate(perSecond: number): string {
  // What was served in the past is not kept.
  if (asOf !== null) return '-'
  return `${perSecond >= 10 ? Math.round(perSecond) : perSecond.toFixed(1)}/s`
}

/** What a route takes, as a person writes it: a host, with its path where that is not everything, or a port. */
export function taken(route: Pick<Route, 'host' | 'port' | 'path' | 'exact'>): string {
  if (route.port !== undefined) return `port ${route.port}`
  const path = route.path === undefined || route.path === '/' ? '' : route.path
  return `${route.host ?? ''}${path}${route.exact ? ' exactly' : ''}`
}

/** Whether a certificate was given that covers a route's host. */
function certified(view: View, route: Route): boolean {
  const host = route.host ?? ''
  const covering = [host, `*.${host.slice(host.indexOf('.') + 1)}`]
  return Object.values(view.objects.certificate).some((certificate) =>
    certificate.target.environment === route.target.environment && certificate.sealed !== undefined && certificate.names.some((name) => covering.includes(name)))
}

/** How a person gets there: over TLS where the route asks for it, or a certificate was given. */
export function url(view: View, route: Route): string {
  const [host, path] = [route.host ?? '', route.path === undefined || route.path === '/' ? '' : route.path]
  const port = (address: string) => address.slice(address.lastIndexOf(':') + 1)
  const secure = route.tls !== undefined || certified(view, route)
  return secure ? `https://${host}:${port(view.gateway_tls)}${path}` : `http://${host}:${port(view.gateway)}${path}`
}

/** The replicas that a service's selector matches. */
export function selected(view: View, service: Service): Replica[] {
  const { environment } = service.target
  const matches = (replica: Replica) => {
    const [env, name] = replica.id.split('/')
    const labels = view.objects.release[`${env ?? ''}/${name ?? ''}@${replica.release}`]?.spec.labels ?? {}
    const wanted = Object.entries(service.select)
    return env === environment && replica.once === undefined && wanted.length > 0 && wanted.every(([label, value]) => (label === 'workload' ? name : labels[label]) === value)
  }
  return Object.values(view.objects.replica).filter(matches).sort(order)
}
