import * as Tabs from '@radix-ui/react-tabs'
import { useEffect, useState } from 'react'
import { Link } from 'react-router'

import { traffic } from '../api'
import { useAwake } from '../awake'
import { rate, size } from '../view'
import type { Traffic } from '../model'
import { useQuery } from '../query'
import { asOf } from '../moment'
import { useView } from '../store'
import { Lasting, Spark } from './spark'

const EVERY = 2_000
/** Rows that are shown. */
const MOST = 200
const facets = [['route', 'By route'], ['service', 'By service'], ['release', 'By release'], ['replica', 'By replica']] as const
type Facet = (typeof facets)[number][0]

/** What came in, and how it was answered: live, and over the last quarter of an hour. */
export function TrafficTable({ environment, wanted }: { environment: string; wanted: string }) {
  const [query, put] = useQuery()
  const by = facets.find(([facet]) => facet === query.get('by'))?.[0] ?? 'route'
  const rows = useTraffic(by, environment)
  const shown = rows?.filter((row) => name(by, row).includes(wanted) || row.way.includes(wanted))
  return (
    <Tabs.Root value={by} onValueChange={(facet) => { put('by', facet === 'route' ? '' : facet) }}>
      <div className="mt-5 mb-2 flex items-baseline gap-6">
        <h2 className="text-base font-semibold">Traffic</h2>
        <Tabs.List className="flex gap-5" aria-label="How traffic is grouped">
          {facets.map(([facet, word]) => (
            <Tabs.Trigger key={facet} value={facet} className="text-soft data-[state=active]:font-semibold data-[state=active]:text-ink">{word}</Tabs.Trigger>
          ))}
        </Tabs.List>
      </div>
      <Tabs.Content value={by}>
        {asOf !== null ? <p className="text-soft">Traffic of that time is not kept.</p> : shown === undefined ? null : shown.length === 0 ? (
          <p className="rounded-xl border border-line bg-card p-4">No request came in the last quarter of an hour.</p>
        ) : (
          <Rows by={by} rows={shown} />
        )}
      </Tabs.Content>
    </Tabs.Root>
  )
}

/** Read again and again while somebody may be looking. */
function useTraffic(by: Facet, of: string) {
  const awake = useAwake()
  const [known, setKnown] = useState<{ of: string; rows: Traffic[] } | null>(null)
  const asked = `${by} ${of}`
  useEffect(() => {
    if (!awake || asOf !== null) return
    let wanted = true
    let next: ReturnType<typeof setTimeout> | undefined
    const read = () => {
      traffic(by, of)
        .then((rows) => { if (wanted) setKnown({ of: asked, rows }) })
        // The page says itself that the platform is away; the figures stay as they were.
        .catch(() => undefined)
        .finally(() => { if (wanted) next = setTimeout(read, EVERY) })
    }
    read()
    return () => { wanted = false; clearTimeout(next) }
  }, [awake, by, of, asked])
  return known?.of === asked ? known.rows : undefined
}

function Rows({ by, rows }: { by: Facet; rows: Traffic[] }) {
  const { now } = useView()
  const head = facets.find(([facet]) => facet === by)?.[1].slice(3) ?? ''
  const most = [...rows].sort((a, b) => b.rate - a.rate).slice(0, MOST)
  const sorted = most.sort((a, b) => name(by, a).localeCompare(name(by, b)))
  return (
    <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label={`Traffic by ${by}`}>
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            {[head.charAt(0).toUpperCase() + head.slice(1), 'Requests, quarter of an hour', 'Now', 'Open', 'Failed in 10 s', 'p50 · p95 · p99', 'p95, quarter of an hour', 'In · out a second'].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
          </tr>
        </thead>
        <tbody>
          {sorted.map((row) => (
            <tr key={name(by, row)} className="border-b border-line/70 last:border-b-0">
              <th scope="row" className="px-3 py-2 font-medium"><Name by={by} row={row} /></th>
              <td className="px-3"><Spark points={row.points} now={now} label={`requests to ${name(by, row)}`} /></td>
              <td className="figures px-3 text-xs whitespace-nowrap">{rate(row.rate)}</td>
              <td className="figures px-3 text-xs">{row.open}</td>
              <td className={`figures px-3 text-xs ${row.failed > 0 ? 'text-fault' : ''}`}>{row.failed}</td>
              <td className="figures px-3 text-xs whitespace-nowrap">{[row.p50, row.p95, row.p99].map(millis).join(' · ')}</td>
              <td className="px-3 whitespace-nowrap"><Lasting points={row.points} now={now} label={`p95 of ${name(by, row)}`} /></td>
              <td className="figures px-3 text-xs whitespace-nowrap">{size(row.received)} · {size(row.sent)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > MOST && <p className="px-3 py-2 text-soft">{rows.length - MOST} more that served less; find one by its name above.</p>}
    </div>
  )
}

function Name({ by, row }: { by: Facet; row: Traffic }) {
  const shown = name(by, row)
  const of = by === 'service' ? '' : row.workload
  return (
    <>
      {of === '' ? shown : <Link className="hover:underline" to={`/${of}`}>{shown}</Link>}
      {by === 'route' && row.inside && <span className="ml-2 text-xs font-normal text-soft">from inside</span>}
    </>
  )
}

function name(by: Facet, row: Traffic): string {
  const [, own = row.workload] = row.workload.split('/')
  if (by === 'route') return row.way
  if (by === 'service') return row.service.split('/')[1] ?? row.service
  if (row.workload === '') return 'none answered'
  if (by === 'release') return `${own} release ${row.release}`
  return row.replica === '' ? `${own} release ${row.release}, many replicas` : row.replica.split('/').slice(1).join('/')
}

const millis = (time: number | null) => (time === null ? '-' : time < 10 ? time.toFixed(1) : String(Math.round(time)))
