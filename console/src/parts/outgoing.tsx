import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { outgoing, wayTo } from '../api'
import type { OutgoingDestination, OutgoingName, Target, Why } from '../model'
import { asOf } from '../moment'
import { key, moment, size } from '../view'
import { Button } from './button'
import { Trouble } from './page'
import { Badge } from './signal'
import { Table, type Column } from './table'

/** Asked again so often. */
const EVERY = 2_000

/** What a workload may reach outside, and what it reached. */
export function Outgoing({ target }: { target: Target }) {
  const { data, error } = useQuery({ queryKey: ['outgoing', key(target)], queryFn: () => outgoing(target), refetchInterval: EVERY, enabled: asOf === null })
  if (asOf !== null) return <p className="text-faint">What is reached outside is not kept for past moments.</p>
  if (error !== null) return <Trouble cause={error} />
  if (data === undefined) return null
  const may = { none: 'Nothing outside: its environment has outgoing = none.', all: 'Everything outside: its environment has outgoing = all.', listed: 'Nothing outside: it lists nothing in outgoing.' }
  return (
    <div className="grid gap-4">
      <div>
        {data.mode === 'listed' && data.rules.length > 0
          ? <p>It may reach {data.rules.map((rule) => <span key={rule} className="figures mr-2 inline-block text-xs break-all">{rule}</span>)}</p>
          : <p>{may[data.mode]}</p>}
        {!data.enforced && <p className="font-semibold text-caution">It is not held to that: its replicas are ordinary processes of this machine.</p>}
      </div>
      <TryOut target={target} />
      {data.destinations.length > 0 && <Table label="Destinations" columns={destinations} rows={data.destinations} name={(each) => each.destination} />}
      {data.names.length > 0 && <Table label="Names that were looked up" columns={names} rows={data.names} name={(each) => each.name} />}
    </div>
  )
}

const destinations: Column<OutgoingDestination>[] = [
  { head: 'To', names: true, breaks: true, by: (each) => each.destination, cell: (each) => <span className="figures text-xs break-all">{each.destination}</span> },
  { head: 'Open', by: (each) => each.open, cell: (each) => <span className="figures text-xs">{each.open}</span> },
  { head: 'Made', by: (each) => each.made, cell: (each) => <span className="figures text-xs">{each.made}</span> },
  { head: 'Refused', by: (each) => each.refused, cell: (each) => <span className={`figures text-xs ${each.refused > 0 ? 'font-semibold text-caution' : ''}`}>{each.refused}</span> },
  { head: 'Failed', by: (each) => each.failed, cell: (each) => <span className={`figures text-xs ${each.failed > 0 ? 'font-semibold text-fault' : ''}`}>{each.failed}</span> },
  { head: 'Sent', by: (each) => each.sent, cell: (each) => <span className="figures text-xs whitespace-nowrap">{size(each.sent)}</span> },
  { head: 'Received', by: (each) => each.received, cell: (each) => <span className="figures text-xs whitespace-nowrap">{size(each.received)}</span> },
  { head: 'Last', by: (each) => each.at, cell: (each) => <span className="whitespace-nowrap">{moment(each.at)}</span> },
  { head: 'Says', breaks: true, cell: (each) => <span className="text-soft">{each.says}</span> },
]

const answers = { found: 'found', nothing: 'nothing of the kind', unknown: 'no such name', refused: 'no rule names it', failed: 'no answer' }

const names: Column<OutgoingName>[] = [
  { head: 'Looked up', names: true, breaks: true, by: (each) => each.name, cell: (each) => <span className="figures text-xs break-all">{each.name}</span> },
  { head: 'Asked', by: (each) => each.asked, cell: (each) => <span className="figures text-xs">{each.asked}</span> },
  { head: 'Last', by: (each) => each.at, cell: (each) => <span className="whitespace-nowrap">{moment(each.at)}</span> },
  { head: 'Answer', breaks: true, cell: (each) => <span className="figures text-xs break-all">{each.addresses.length > 0 ? each.addresses.join(', ') : answers[each.outcome]}</span> },
]

/** Has a gateway try a destination, and says what it found. */
function TryOut({ target }: { target: Target }) {
  const [to, setTo] = useState('')
  const [found, setFound] = useState<Why | Error | null>(null)
  const [busy, setBusy] = useState(false)
  const ask = () => {
    setBusy(true)
    wayTo(key(target), to).then(setFound, setFound).finally(() => setBusy(false))
  }
  return (
    <form className="flex flex-wrap items-center gap-x-3 gap-y-2" onSubmit={(event) => { event.preventDefault(); ask() }}>
      <label className="flex min-w-0 items-center gap-2">Try <input className="figures w-64 max-w-full rounded-lg border border-line bg-paper px-2.5 py-1 text-xs" value={to} onChange={(event) => setTo(event.target.value)} placeholder="mail.example:25" aria-label="A destination outside" /></label>
      <Button type="submit" disabled={to === '' || busy}>{busy ? 'Trying…' : 'Try it'}</Button>
      {found instanceof Error && <span role="status" className="text-fault">{found.message}</span>}
      {found !== null && !(found instanceof Error) && (
        <span role="status" className="min-w-0"><Badge of={found.answers ? 'good' : 'fault'} word={found.answers ? 'is reached' : found.cause.code} /> <span className="text-soft break-words">{found.cause.sentence}{!found.answers && `; ${found.cause.fix}`}</span></span>
      )}
    </form>
  )
}
