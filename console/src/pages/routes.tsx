import { linkHorizontal } from 'd3-shape'
import { useEffect, useState, type ReactNode } from 'react'
import { Link, useParams } from 'react-router'

import { why } from '../api'
import { environmentView, key, local, rate, route, served, short, type ShownRoute } from '../view'
import type { CertificateView, Replica, Service, ServiceView, Why } from '../model'
import { Command } from '../parts/command'
import { NewRoute } from '../parts/guided'
import { asOf } from '../moment'
import { Badge, look } from '../parts/signal'
import { TrafficTable } from '../parts/traffic'
import { useQuery } from '../query'
import { useView } from '../store'

const WIDTH = 1130
const ROW = 62
const ROUTE = { x: 1, width: 330, height: 48 }
const SERVICE = { x: 440, width: 250, height: 48 }
const CELLS = { x: 760, most: 24 }
const link = linkHorizontal<unknown, [number, number]>()
const thickness = (rate: number) => (rate <= 0 ? 1.5 : Math.min(7, 2 + Math.sqrt(rate)))

/** Ways in: the map from host to replicas, and certificates with their dates. */
export function RoutesPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const [query, put] = useQuery()
  const wanted = query.get('find') ?? ''
  const fits = (text: string) => text.includes(wanted)
  const shown = environmentView(view, environment)
  const services = Object.keys(shown.services).map((name) => view.objects.service[`${environment}/${name}`]).filter((service) => service !== undefined)
  const all = Object.keys(shown.routes).map((name) => route(view, environment, name)).filter((it) => it !== undefined)
  const routes = all.filter((it) => fits(it.at) || it.to.some((leg) => fits(leg.service))).sort((a, b) => a.at.localeCompare(b.at))
  const certificates = Object.values(shown.certificates)
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="text-xl font-semibold">Routes and services</h1>
        <Command words={`mainyard add route ${environment}/NAME --to SERVICE`} />
        <input
          type="search" value={wanted} onChange={(event) => { put('find', event.target.value) }} placeholder="Find a host or service" aria-label="Find a host or service"
          className="ml-auto w-60 rounded-lg border border-line bg-card px-3 py-1.5"
        />
        <NewRoute environment={environment} services={services.map((service) => service.target.name)} />
      </div>
      {services.length === 0 && routes.length === 0 ? (
        <p className="rounded-xl border border-line bg-card p-6">
          Nothing can be reached in {environment} yet. A workload with a port gets a service of its name. A route lets visitors in from outside; add one with the command above.
        </p>
      ) : (
        <WayMap routes={routes} services={services.filter((service) => wanted === '' || fits(service.target.name) || routes.some((route) => route.to.some((leg) => leg.service === service.target.name)))} />
      )}
      <TrafficTable environment={environment} wanted={wanted} />
      <h2 className="mt-5 mb-2 text-base font-semibold">Certificates</h2>
      <Certificates list={certificates} environment={environment} />
    </>
  )
}

interface Placed {
  service: Service
  view: ServiceView
  replicas: Replica[]
  top: number
}

function WayMap({ routes, services }: { routes: ShownRoute[]; services: Service[] }) {
  const view = useView()
  // Services stand beside the first route that leads to them; the others, which are called from inside only, below.
  const order = [...new Set([...routes.flatMap((route) => route.to.map((leg) => leg.service)), ...services.map((service) => service.target.name)])]
  const placed = new Map<string, Placed>()
  for (const name of order) {
    const service = services.find((one) => one.target.name === name)
    const behind = service && environmentView(view, service.target.environment).services[name]
    if (service === undefined || behind === undefined) continue
    const replicas = behind.replicas.map((id) => view.objects.replica[id]).filter((replica) => replica !== undefined)
    placed.set(name, { service, view: behind, replicas, top: placed.size * ROW })
  }
  const height = Math.max(routes.length, placed.size) * ROW + 8
  const dark = routes.filter((it) => !it.answers)
  return (
    <>
      {dark.map((route) => <Cut key={key(route.target)} route={route} />)}
      <div className="overflow-x-auto rounded-xl border border-line bg-card p-4" tabIndex={0} role="region" aria-label="From host to replicas">
        <svg viewBox={`0 0 ${WIDTH} ${height}`} className="w-full min-w-[760px]" role="group" aria-label={`${routes.length} routes, ${placed.size} services`} data-testid="map">
          {routes.map((route, index) => {
            const y = index * ROW + ROUTE.height / 2 + 2
            const all = served(view.figures.routes, route.at).rate
            return (
              <g key={key(route.target)}>
                {route.legs.map((leg) => {
                  const to = placed.get(leg.service)
                  if (to === undefined) return null
                  const end = to.top + SERVICE.height / 2 + 2
                  const lit = leg.answers
                  const middle = (ROUTE.x + ROUTE.width + SERVICE.x) / 2
                  return (
                    <g key={leg.service}>
                      <path
                        d={link({ source: [ROUTE.x + ROUTE.width, y], target: [SERVICE.x, end] }) ?? ''} fill="none"
                        className={lit ? 'stroke-ink' : 'stroke-faint'} strokeWidth={lit ? thickness((all * leg.percent) / 100) : 1.5} strokeDasharray={lit ? undefined : '5 5'}
                      />
                      {!lit && <path d={`M${middle - 9} ${(y + end) / 2 - 10}l9 20m3 -20l9 20`} className="stroke-fault" strokeWidth="2.6" fill="none" data-testid="cut" />}
                      {route.legs.length > 1 && <text x={middle} y={(y + end) / 2 + 4} textAnchor="middle" className="fill-ink stroke-card text-[11px]" strokeWidth="5" style={{ paintOrder: 'stroke' }}>{leg.percent} %</text>}
                    </g>
                  )
                })}
                <a href={route.url ?? undefined} target="_blank" rel="noreferrer">
                  <rect x={ROUTE.x} y={y - ROUTE.height / 2} width={ROUTE.width} height={ROUTE.height} rx="7" className="fill-card stroke-line" strokeWidth="1.4" />
                  <text x={ROUTE.x + 13} y={y - 4} className="fill-ink text-[13px] font-semibold">{clip(route.at, 42)}</text>
                  <text x={ROUTE.x + 13} y={y + 13} className="fill-soft text-[11px]">{[route.target.name, route.redirect !== undefined ? `sent to ${route.redirect.to}` : rate(all), ...notes(route)].join(' · ')}</text>
                </a>
              </g>
            )
          })}
          {[...placed.values()].map(({ service, view: { ready, workloads }, replicas, top }) => (
            <g key={key(service.target)} transform={`translate(0 ${top + 2})`} data-service={service.target.name}>
              {replicas.length > 0 && <line x1={SERVICE.x + SERVICE.width} x2={CELLS.x} y1={SERVICE.height / 2} y2={SERVICE.height / 2} className={ready > 0 ? 'stroke-ink' : 'stroke-faint'} strokeWidth="1.5" strokeDasharray={ready > 0 ? undefined : '4 5'} />}
              <Behind environment={service.target.environment} workloads={workloads}>
                <rect x={SERVICE.x} y="0" width={SERVICE.width} height={SERVICE.height} rx="8" className="fill-press" />
                <text x={SERVICE.x + 13} y={SERVICE.height / 2 - 4} className="fill-press-ink text-[13px] font-semibold">{clip(service.target.name, 30)}</text>
                <text x={SERVICE.x + 13} y={SERVICE.height / 2 + 13} className="fill-press-ink text-[11px]" opacity=".75">{[service.address, ports(service), ...(service.open_to === undefined ? [] : [`open to ${service.open_to.join(', ')}`])].join(' · ')}</text>
              </Behind>
              {replicas.slice(0, CELLS.most).map((replica, index) => <MapCell key={replica.id} replica={replica} x={CELLS.x + index * 15} y={SERVICE.height / 2 - 10} />)}
              {replicas.length > CELLS.most && <text x={CELLS.x} y={SERVICE.height - 1} className="fill-soft text-[11px]">{ready} of {replicas.length} ready</text>}
              {replicas.length === 0 && <text x={CELLS.x - 50} y={SERVICE.height / 2 + 4} className="fill-fault text-[12px] font-semibold">no replica is behind it</text>}
            </g>
          ))}
        </svg>
      </div>
    </>
  )
}

/** Leads to the workload whose replicas are behind a service, where it is one. */
function Behind({ environment, workloads: [only, ...others], children }: { environment: string; workloads: string[]; children: ReactNode }) {
  return only === undefined || others.length > 0 ? <>{children}</> : <Link to={`/${environment}/${only}`}>{children}</Link>
}

/** Why a route does not answer, in the platform's own words. */
function Cut({ route }: { route: ShownRoute }) {
  const [found, setFound] = useState<Why | null>(null)
  const of = `route:${key(route.target)}`
  useEffect(() => {
    // The cause is sought in what is now.
    if (asOf !== null) return
    let wanted = true
    why(of).then((answer) => { if (wanted) setFound(answer) }, () => { if (wanted) setFound(null) })
    return () => { wanted = false }
  }, [of])
  return (
    <p role="status" className="mb-3 rounded-xl border border-line border-l-4 border-l-fault bg-card px-4 py-2.5">
      <Badge of="fault" word={route.at} /> {found === null ? 'does not answer.' : <>{plain(found.cause.sentence)} <span className="text-soft">{plain(found.cause.fix)}</span></>} <Command words={`mainyard why ${of}`} />
      {(found?.output ?? []).length > 0 && <span className="figures mt-1 block whitespace-pre-wrap text-xs text-soft">{(found?.output ?? []).join('\n')}</span>}
    </p>
  )
}

function MapCell({ replica, x, y }: { replica: Replica; x: number; y: number }) {
  const of = look(replica.state)
  const box = { x, y, width: 11, height: 20, rx: 2 }
  const style = of === 'ready' ? 'fill-cell' : of === 'failed' ? 'fill-fault-wash stroke-fault' : of === 'unready' ? 'fill-caution-wash stroke-caution' : of === 'leaving' ? 'fill-card stroke-cell' : 'fill-card stroke-moving'
  return (
    <g>
      <title>{`${short(replica)} ${replica.state} on ${replica.node ?? 'no node yet'}${replica.reason ? `: ${replica.reason.sentence}` : ''}`}</title>
      <rect {...box} className={style} strokeWidth="1.4" strokeDasharray={of === 'starting' || of === 'leaving' ? '3 2' : undefined} />
      {of === 'leaving' && <rect {...box} width="5.5" className="fill-cell" opacity=".55" />}
      {of === 'failed' && <path d={`M${x + 2} ${y + 4}l7 12m0 -12l-7 12`} className="stroke-fault" strokeWidth="1.3" />}
    </g>
  )
}

function Certificates({ list, environment }: { list: CertificateView[]; environment: string }) {
  if (list.length === 0) {
    return (
      <p className="rounded-xl border border-line bg-card p-4">
        There is none yet: hosts are served with certificates that the platform's local authority signs. Add one with <Command words={`mainyard certificate add ${environment}/NAME --chain FILE --key FILE`} />
      </p>
    )
  }
  return (
    <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Certificates">
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            {['Certificate', 'For', 'Lasts', 'Issued by', 'Given by'].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
          </tr>
        </thead>
        <tbody>
          {list.map((one) => (
            <tr key={one.certificate} className="border-b border-line/70 last:border-b-0">
              <th scope="row" className="px-3 py-2 font-medium">{one.certificate.split('/')[1]}</th>
              <td className="figures px-3 text-xs">{one.names.join(', ') || 'no host: an authority to trust'}</td>
              <td className="px-3"><Badge of={one.signal} word={one.lasts} /></td>
              <td className="px-3 text-soft">{one.issuer}</td>
              <td className="px-3 text-soft">{one.origin.by}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

function notes(route: ShownRoute): string[] {
  const enter = route.enter === undefined || route.enter === 'open' ? [] : ['authorizes visitors']
  const methods = route.methods === undefined ? [] : [route.methods.join(' ')]
  const rated = route.rate === undefined ? [] : [`${route.rate.requests} in ${route.rate.every}`]
  const tls = route.tls === undefined ? [] : [route.tls.untouched === true ? 'TLS untouched' : `TLS, ${route.tls.onward} onward`]
  return [...tls, ...methods, ...enter, ...rated]
}

/** A sentence of the platform's, as a page has it: with a capital and a full stop, and without the marks of code. */
const plain = (text: string) => local(`${text.charAt(0).toUpperCase()}${text.slice(1)}.`.replaceAll('`', ''))
const ports = (service: Service) => Object.keys(service.ports).map((port) => `:${port}`).join(' ')
const clip = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text)
