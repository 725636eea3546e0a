import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { useLayoutEffect, useRef, useState } from 'react'
import { Link, useParams } from 'react-router'

import { NOT_ISOLATED, environmentView, isolates, key, moment, rate, rowOf, sentence, served, tag, type Row, type ShownRoute } from '../view'
import type { Need } from '../model'
import { asOf } from '../moment'
import { SteerAct } from '../parts/acts'
import { NewWorkload } from '../parts/guided'
import { Badge, Cells } from '../parts/signal'
import { Spark } from '../parts/spark'
import { useRows, useView } from '../store'

export function BoardPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const list = useRows(environment)
  if (view.objects.environment[environment] === undefined) {
    return <><h1 className="text-xl font-semibold">There is no environment {environment}.</h1> <Link className="underline" to="/">To the board</Link></>
  }
  const { needs } = environmentView(view, environment)
  const all = needs.length
  const moving = list.filter((row) => row.view.signal === 'moving')
  const wanted = list.reduce((sum, row) => sum + row.workload.wanted, 0)
  const ready = list.reduce((sum, row) => sum + Math.min(row.view.ready, row.workload.wanted), 0)
  const outside = Object.values(environmentView(view, environment).routes).reduce((sum, route) => sum + served(view.figures.routes, route.at).rate, 0)
  const points = Object.entries(view.series).filter(([service]) => service.startsWith(`${environment}/`)).flatMap(([, series]) => series)
  const total = points.reduce((sum, point) => sum + point.requests, 0)
  const failed = points.reduce((sum, point) => sum + point.failed, 0)
  const nodes = Object.keys(view.objects.node).length
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-3.5">
        <h1 className="text-xl font-semibold">
          {all === 0 ? (moving.length === 0 ? 'All is well' : `${moving.length} moving, nothing needs you`) : all === 1 ? '1 thing needs you' : `${all} things need you`}
        </h1>
        <p className="text-soft">
          {list.length} {list.length === 1 ? 'workload' : 'workloads'} · {view.whole ? <>{ready} of {wanted} replicas ready on {nodes} {nodes === 1 ? 'node' : 'nodes'}</> : `${wanted} replicas`}{' '}
          {asOf === null && <>· {rate(outside)} from outside · {total === 0 ? 'no request' : `${((100 * failed) / total).toFixed(2)} % failed`} in the last 15 min</>}
        </p>
        <div className="ml-auto"><NewWorkload environment={environment} /></div>
      </div>
      {Object.values(view.objects.node).filter((node) => !isolates(view, node.name)).map((node) => (
        <p key={node.name} className="mt-2 text-[13px] text-soft">
          <Badge of="caution" word={NOT_ISOLATED} /> Replicas on {node.name} are ordinary processes; only the memory limit applies, for each process.
        </p>
      ))}
      {all > 0 && (
        <section aria-label="What needs you" className="mt-4 overflow-hidden rounded-xl border border-l-4 border-line border-l-fault bg-card">
          {needs.map((need) => <NeedRow key={`${need.kind} ${need.name}`} need={need} environment={environment} />)}
        </section>
      )}
      {moving.map((row) => <MovingRow key={row.workload.target.name} row={row} />)}
      {list.length === 0 ? (
        <section className="mt-4 rounded-xl border border-line bg-card p-6">
          <p>Workloads of {environment} stand here, one a row. Declare the first one from a file:</p>
          <code className="figures mt-2 block">mainyard declare mainyard.toml --in {environment}</code>
        </section>
      ) : (
        <Table list={list} />
      )}
    </>
  )
}

function Name({ row }: { row: Row }) {
  const { environment, name } = row.workload.target
  return <Link to={`/${environment}/${name}`} className="font-semibold hover:underline">{name}</Link>
}

/** Where each kind of thing is looked at. */
const pages = { workload: '', route: '-/routes', source: '-/sources', certificate: '-/certificates' }

function NeedRow({ need, environment }: { need: Need; environment: string }) {
  const view = useView()
  const row = need.kind === 'workload' ? rowOf(view, environment, need.name) : undefined
  const waits = need.state === 'asks'
  return (
    <article className="flex flex-wrap items-center gap-x-3.5 gap-y-2 border-b border-line px-4 py-3 last:border-b-0">
      <Badge of={need.signal} word={need.state} />
      <div className="min-w-0 grow basis-96">
        <p>{row === undefined ? <span className="font-semibold">{need.kind} {need.name}</span> : <Name row={row} />} {need.headline}.</p>
        <p className="text-soft">{sentence(need.sentence)}</p>
      </div>
      <Link to={`/${environment}/${need.kind === 'workload' ? need.name : pages[need.kind]}`} className="rounded-lg border border-line px-3 py-1.5 text-[13px] font-semibold hover:bg-paper">Look</Link>
      {row?.workload.held != null && <SteerAct row={row} act="resume" />}
      {row !== undefined && waits && <><SteerAct row={row} act="advance" />{row.view.acts.includes('cancel') && <SteerAct row={row} act="cancel" tone="danger" />}</>}
    </article>
  )
}

function MovingRow({ row }: { row: Row }) {
  const { workload, rollout } = row
  const { open, moves: way, draining: leaving } = row.view
  const of = open ? row.view.ready_in_release : row.view.ready
  const share = workload.wanted === 0 ? 1 : Math.min(1, of / workload.wanted)
  return (
    <section className="mt-4 flex flex-wrap items-center gap-x-4 gap-y-2 rounded-xl border border-line bg-card px-4 py-3" aria-label={`${workload.target.name} moves`}>
      <Badge of="moving" word="moving" />
      <Name row={row} />
      <span className="text-soft">{open ? (way === null ? `release ${workload.release}` : `release ${way[0]} → ${way[1]}`) : `to ${workload.wanted}`}</span>
      <div className="h-2 min-w-40 grow overflow-hidden rounded-full bg-line" role="progressbar" aria-valuenow={of} aria-valuemax={workload.wanted} aria-label="ready">
        <div className="eases h-full bg-moving" style={{ width: `${share * 100}%` }} />
      </div>
      <span className="figures text-xs text-soft">
        {of} of {workload.wanted} {open ? (rollout?.state === 'going-back' ? 'back' : 'new') : 'ready'}{leaving > 0 && ` · ${leaving} leaving`}
      </span>
    </section>
  )
}

const ROW = 45

/** One row a workload; of very many only those that are in sight are drawn. */
function Table({ list }: { list: Row[] }) {
  const head = ['Workload', 'State', 'Replicas', 'Release', 'Traffic, 15 min', 'Reached at', 'Last change']
  const box = useRef<HTMLTableSectionElement>(null)
  const [above, setAbove] = useState(0)
  useLayoutEffect(() => {
    if (box.current) setAbove(box.current.getBoundingClientRect().top + window.scrollY)
  }, [])
  const virtual = useWindowVirtualizer({ count: list.length, estimateSize: () => ROW, overscan: 15, scrollMargin: above })
  const items = virtual.getVirtualItems()
  const before = (items[0]?.start ?? above) - above
  const after = virtual.getTotalSize() - ((items.at(-1)?.end ?? above) - above)
  return (
    <div className="mt-4 overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Workloads">
      <table className="w-full border-collapse text-left" aria-rowcount={list.length}>
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            {head.map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold whitespace-nowrap">{word}</th>)}
          </tr>
        </thead>
        <tbody ref={box}>
          {before > 0 && <tr aria-hidden style={{ height: before }} />}
          {items.map((item) => {
            const row = list[item.index]
            return row && <TableRow key={row.workload.target.name} row={row} />
          })}
          {after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </table>
    </div>
  )
}

function TableRow({ row }: { row: Row }) {
  const view = useView()
  const { workload, release } = row
  const service = row.services[0]
  const change = workload.last_change
  return (
    <tr className="border-b border-line/70 last:border-b-0">
      <th scope="row" className="px-3 py-2.5"><Name row={row} /></th>
      <td className="px-3"><Badge of={row.view.signal} word={workload.state} /></td>
      <td className="px-3"><Cells replicas={row.replicas} wanted={workload.wanted} /></td>
      <td className="px-3 whitespace-nowrap">
        <strong className="font-semibold">{row.view.moves?.join(' → ') ?? workload.release}</strong>
        {release?.same_as != null && <span className="text-soft"> same as {release.same_as}</span>}{' '}
        <span className="figures text-xs text-soft">{tag(release?.spec.image ?? '')}</span>
      </td>
      <td className="px-3 whitespace-nowrap">
        {service === undefined ? <span className="text-faint">no port</span> : asOf !== null ? <span className="text-faint">not kept</span> : (
          <>
            <Spark points={view.series[key(service.target)] ?? []} now={view.now} label={`requests to ${workload.target.name} in the last 15 minutes`} />{' '}
            <span className="figures text-xs">{rate(row.served.rate)}</span>
          </>
        )}
      </td>
      <td className="figures px-3 text-xs">
        {row.routes.length > 0 ? row.routes.map((route) => <WayIn key={route.target.name} route={route} />)
          : service === undefined ? <span className="font-sans text-faint">none, it takes jobs</span>
          : <>{service.target.name} <span className="font-sans text-faint">inside</span></>}
      </td>
      <td className="px-3 whitespace-nowrap">{moment(change.at)} <span className="text-soft">{change.by} {change.act}</span></td>
    </tr>
  )
}

function WayIn({ route }: { route: ShownRoute }) {
  if (route.url === null) return <span className="block">{route.at}</span>
  return <a className="block hover:underline" href={route.url} target="_blank" rel="noreferrer">{route.at}</a>
}
