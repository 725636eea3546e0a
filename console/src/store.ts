// Everything the console shows: one snapshot, then every change as it comes through the event stream.

import { useMemo, useSyncExternalStore } from 'react'

import { isAwake, onAwake } from './awake'
import { NOTHING, rows, type Row } from './view'
import type { ChangeEvent, EnvironmentView, Figures, Kind, Objects, Snapshot, ViewChange, Views } from './model'
import { asOf } from './moment'

/** What the pages look at. */
export interface View extends Snapshot {
  /** Since when the stream is cut; null while it lives. */
  lostSince: number | null
  /** The number of the last change that a person caused. */
  lastAct: number
  /** When the figures were read. */
  now: number
}

export type Phase = { phase: 'loading' } | { phase: 'signed-out' } | { phase: 'refused'; because: string } | { phase: 'ready'; view: View }

let present: Phase = { phase: 'loading' }
const listeners = new Set<() => void>()
let waiting: ChangeEvent[] = []
let scheduled = false
let source: EventSource | null = null

function set(next: Phase) {
  present = next
  listeners.forEach((listener) => listener())
}

function change(edit: (view: View) => View) {
  if (present.phase === 'ready') set({ phase: 'ready', view: edit(present.view) })
}

/** Reads the snapshot and follows the stream; tries again until the platform answers. */
export async function begin(): Promise<void> {
  try {
    const answer = await fetch(asOf === null ? '/api/v1/snapshot' : `/api/v1/snapshot?as_of=${encodeURIComponent(asOf)}`)
    if (answer.status === 401) {
      set({ phase: 'signed-out' })
      return
    }
    if (asOf !== null && answer.status >= 400 && answer.status < 500) {
      set({ phase: 'refused', because: ((await answer.json()) as { detail: string }).detail })
      return
    }
    if (!answer.ok) throw new Error(`the platform answers ${answer.status}`)
    const snapshot = (await answer.json()) as Snapshot
    set({ phase: 'ready', view: { ...snapshot, lostSince: null, lastAct: snapshot.cursor, now: asOf === null ? Date.now() : Date.parse(asOf) } })
    if (asOf === null) follow(snapshot.cursor)
  } catch {
    change((view) => ({ ...view, lostSince: view.lostSince ?? Date.now() }))
    setTimeout(() => void begin(), 1000)
  }
}

onAwake(() => {
  if (asOf !== null) return
  if (isAwake()) void begin()
  else source?.close()
})

function follow(cursor: number) {
  source?.close()
  if (!isAwake()) return
  const stream = new EventSource(`/api/v1/stream?after=${cursor}&views=true`)
  source = stream
  stream.addEventListener('change', (event) => {
    waiting.push(JSON.parse(event.data as string) as ChangeEvent)
    if (!scheduled) {
      scheduled = true
      // A burst of changes is drawn once.
      setTimeout(apply, 40)
    }
  })
  stream.addEventListener('figures', (event) => {
    const figures = JSON.parse(event.data as string) as Figures
    change((view) => ({ ...view, figures, series: withPoints(view, figures), lostSince: null, now: Date.now() }))
  })
  stream.addEventListener('views', (event) => {
    const changes = JSON.parse(event.data as string) as ViewChange[]
    // What the rows follow from came before them.
    apply()
    change((view) => ({ ...view, views: withRows(view.views, changes) }))
  })
  stream.addEventListener('reset', () => void begin())
  stream.onopen = () => change((view) => ({ ...view, lostSince: null }))
  stream.onerror = () => {
    change((view) => ({ ...view, lostSince: view.lostSince ?? Date.now() }))
    if (stream.readyState === EventSource.CLOSED) setTimeout(() => void begin(), 1000)
  }
}

function apply() {
  scheduled = false
  const entries = waiting
  waiting = []
  change((view) => {
    const objects = { ...view.objects } as Record<Kind, Record<string, unknown>>
    const copied = new Set<Kind>()
    let { cursor, lastAct } = view
    for (const entry of entries) {
      if (entry.number <= cursor) continue
      cursor = entry.number
      if (entry.cause.by !== 'platform') lastAct = entry.number
      if (!copied.has(entry.kind)) {
        copied.add(entry.kind)
        objects[entry.kind] = { ...objects[entry.kind] }
      }
      if (entry.body === null) Reflect.deleteProperty(objects[entry.kind], entry.key)
      else objects[entry.kind][entry.key] = entry.body
    }
    return { ...view, cursor, lastAct, objects: objects as unknown as Objects }
  })
}

/** The views with rows that are new, different or gone; each part that is touched is copied once. */
function withRows(views: Views, changes: ViewChange[]): Views {
  const next: Views = { nodes: { ...views.nodes }, environments: { ...views.environments } }
  const copied = new Set<string>()
  const isFirst = (of: string) => !copied.has(of) && copied.add(of)
  for (const { environment, part, name, row } of changes) {
    if (environment === null || part === 'nodes') {
      put(next.nodes, name, row)
      continue
    }
    const before = next.environments[environment] ?? NOTHING
    const own = isFirst(environment) ? { ...before } : before
    next.environments[environment] = own
    if (part === 'needs') {
      own.needs = row as EnvironmentView['needs']
      continue
    }
    if (isFirst(`${environment} ${part}`)) Object.assign(own, { [part]: { ...own[part] } })
    put(own[part], name, row)
  }
  return next
}

function put(rows: Record<string, unknown>, name: string, row: unknown) {
  if (row === null || row === undefined) Reflect.deleteProperty(rows, name)
  else rows[name] = row
}

const STEP = 10
const POINTS = 90

/** Adds the last ten seconds as a point of each service's series, once in ten seconds. */
function withPoints(view: View, figures: Figures) {
  const at = Math.floor(Date.now() / 1000 / STEP) * STEP
  const series = { ...view.series }
  const services = new Set([...Object.keys(series), ...Object.keys(figures.services)])
  for (const service of services) {
    const points = series[service] ?? []
    if ((points.at(-1)?.at ?? 0) >= at) continue
    const own = figures.services[service]
    series[service] = [...points, { at, requests: (own?.rate ?? 0) * STEP, failed: own?.failed ?? 0 }].slice(-POINTS)
  }
  return series
}

function subscribe(listener: () => void) {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

export function usePhase(): Phase {
  return useSyncExternalStore(subscribe, () => present)
}

export function useView(): View {
  const phase = usePhase()
  if (phase.phase !== 'ready') throw new Error('a view is shown before there is anything to show')
  return phase.view
}

/** The rows of an environment's board, worked out once for each change. */
export function useRows(environment: string): Row[] {
  const view = useView()
  return useMemo(() => rows(view, environment), [view, environment])
}
