import { useEffect, useMemo, useState } from 'react'
import { Link, useParams } from 'react-router'

import type { Served } from '../model'
import { Button } from '../parts/button'
import { Nothing, PageHead } from '../parts/page'
import { Badge } from '../parts/signal'
import { Table, type Column } from '../parts/table'
import { useQuery } from '../query'
import { Tick } from '../parts/tick'

/** More are not kept. */
const KEPT = 500
/** Drawn this often, however many come. */
const DRAWN_EVERY = 250

/** Requests as they end, while the page is open. */
function useRequests(paused: boolean): { list: Served[]; trouble: string } {
  const [list, setList] = useState<Served[]>([])
  const [trouble, setTrouble] = useState('')
  useEffect(() => {
    if (paused) return
    const stop = new AbortController()
    let waiting: Served[] = []
    const timer = setInterval(() => {
      if (waiting.length === 0) return
      const come = waiting.reverse()
      waiting = []
      setList((before) => [...come, ...before].slice(0, KEPT))
    }, DRAWN_EVERY)
    const read = async () => {
      const answer = await fetch('/api/v1/requests', { signal: stop.signal })
      if (!answer.ok || answer.body === null) throw new Error(`the platform answers ${answer.status}`)
      setTrouble('')
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader()
      let rest = ''
      for (;;) {
        const { value, done } = await reader.read()
        if (done) throw new Error('the stream ended')
        const lines = (rest + value).split('\n')
        rest = lines.pop() ?? ''
        for (const line of lines) if (line !== '') waiting.push(JSON.parse(line) as Served)
        if (waiting.length > KEPT) waiting = waiting.slice(-KEPT)
      }
    }
    read().catch((cause: unknown) => { if (!stop.signal.aborted) setTrouble(cause instanceof Error ? cause.message : 'the platform does not answer') })
    return () => { stop.abort(); clearInterval(timer) }
  }, [paused])
  return { list, trouble }
}

export function RequestsPage() {
  const { environment = '' } = useParams()
  const [query, put] = useQuery()
  const [paused, setPaused] = useState(false)
  const { list, trouble } = useRequests(paused)
  const words = (query.get('words') ?? '').toLowerCase()
  const failed = query.get('failed') !== null
  const shown = useMemo(() => list.filter((served) =>
    (served.route?.startsWith(`${environment}/`) === true || served.replica?.startsWith(`${environment}/`) === true)
    && (!failed || served.status >= 500)
    && (words === '' || [served.host, served.way, served.path, served.method, served.replica, served.id, String(served.status)].some((text) => text?.toLowerCase().includes(words) === true))), [list, environment, words, failed])
  const search = 'rounded-lg border border-line bg-card px-3 py-1.5'
  return (
    <>
      <PageHead title={`Requests in ${environment}`} about={`Requests appear as they end, the newest first; this page keeps the last ${KEPT}.`}>
        <Button aria-pressed={paused} onClick={() => setPaused(!paused)}>{paused ? 'Go on' : 'Pause'}</Button>
      </PageHead>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <input type="search" aria-label="With these words" placeholder="Host, path, status, replica or id" value={query.get('words') ?? ''} onChange={(event) => put('words', event.target.value)} className={`${search} w-80 max-sm:w-full`} />
        <Tick words="failed ones only" on={failed} onChange={(on) => put('failed', on ? 'true' : '')} />
      </div>
      {trouble !== '' && <p role="alert" className="mb-3 text-fault">The stream was cut: {trouble}. Press Pause, then Go on, to read it again.</p>}
      {shown.length === 0
        ? <Nothing>{words === '' && !failed ? 'No request has ended since this page was opened.' : 'No request matches.'}</Nothing>
        : <Table label="Requests" columns={columns} rows={shown} name={(served) => served.id} />}
    </>
  )
}

const time = (served: Served) => new Date(served.at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit', fractionalSecondDigits: 3 })
const workload = (replica: string) => replica.slice(0, replica.lastIndexOf('/'))

const columns: Column<Served>[] = [
  { head: 'Came', by: (served) => served.at, cell: (served) => <span className="figures text-xs">{time(served)}</span> },
  { head: 'Status', by: (served) => served.status, cell: (served) => <Badge of={served.status >= 500 ? 'fault' : served.status >= 400 ? 'caution' : 'good'} word={`${served.status}${served.broken === true ? ', broken off' : ''}`} /> },
  { head: 'Request', names: true, breaks: true, by: (served) => served.path, cell: (served) => <><span className="text-soft">{served.method}</span> {served.host ?? served.way ?? ''}{served.path}</> },
  { head: 'Took', by: (served) => served.micros, cell: (served) => <span className="figures text-xs">{(served.micros / 1000).toFixed(1)} ms</span> },
  {
    head: 'Answered by', by: (served) => served.replica ?? '',
    cell: (served) => (served.replica === undefined
      ? <span className="text-fault">{served.reason?.code ?? 'the gateway'}</span>
      : <><Link className="hover:underline" to={`/${workload(served.replica)}`}>{served.replica.slice(served.replica.indexOf('/') + 1)}</Link> <span className="text-soft">@{served.release}</span></>),
  },
  { head: 'Id', cell: (served) => <span className="figures text-xs text-soft">{served.id}</span> },
]
