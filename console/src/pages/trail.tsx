import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'

import { moment, taken } from '../derive'
import type { TrailEntry } from '../model'
import { Command } from '../parts/command'
import { useQuery } from '../query'
import { useView } from '../store'

/** Who did what: acts of people, the newest first. Person and object are in the address. */
export function TrailPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const [query, put] = useQuery()
  const of = query.get('of') ?? ''
  const by = query.get('by') ?? ''
  const [entries, setEntries] = useState<TrailEntry[] | null>(null)
  const [trouble, setTrouble] = useState('')

  // Read again whenever a person has done something.
  useEffect(() => {
    const stop = new AbortController()
    const read = async () => {
      const answer = await fetch(`/api/v1/trail?limit=1000&of=${encodeURIComponent(of)}`, { signal: stop.signal })
      if (!answer.ok) throw new Error(`the platform answers ${answer.status}`)
      setEntries((await answer.json()) as TrailEntry[])
      setTrouble('')
    }
    read().catch((cause: unknown) => {
      if (!stop.signal.aborted) setTrouble(cause instanceof Error ? cause.message : 'the platform does not answer')
    })
    return () => stop.abort()
  }, [of, view.lastAct])

  const here = (entries ?? []).filter((entry) => entry.key === environment || entry.key.startsWith(`${environment}/`) || entry.kind === 'image')
  const people = [...new Set(here.map((entry) => entry.cause.by))].sort()
  const shown = here.filter((entry) => by === '' || entry.cause.by === by)
  const field = 'rounded-lg border border-line bg-card px-3 py-1.5'
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Trail of {environment}</h1>
        <p className="text-soft">Every act of a person, the newest first</p>
      </div>
      <div className="my-3 flex flex-wrap gap-2">
        <input type="search" aria-label="Of one object" placeholder="Of one object, such as staging/locker-api" value={of} onChange={(event) => put('of', event.target.value)} className={`${field} w-80 max-sm:w-full`} />
        <select aria-label="By whom" value={by} onChange={(event) => put('by', event.target.value)} className={field}>
          <option value="">everybody</option>
          {people.map((each) => <option key={each} value={each}>{each}</option>)}
        </select>
      </div>
      {trouble !== '' && <p role="alert" className="mb-3 text-fault">The trail cannot be read: {trouble}. It is tried again with the next change.</p>}
      <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Acts">
        {entries !== null && shown.length === 0 ? (
          <div className="p-6">
            <p className="mb-2">{of === '' && by === '' ? 'Nobody has done anything here yet. What people do stands here, for good.' : 'Nothing is like that.'}</p>
            {of === '' && by === '' && <Command words={`mainyard declare mainyard.toml --in ${environment}`} />}
          </div>
        ) : (
          <table className="w-full text-left">
            <thead>
              <tr className="border-b border-line text-[13px] text-soft">
                {['When', 'Who', 'Did', 'To', 'So that'].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
              </tr>
            </thead>
            <tbody>
              {shown.map((entry) => (
                <tr key={entry.number} className="border-b border-line/70 last:border-b-0">
                  <td className="figures px-3 py-2 text-xs whitespace-nowrap">{moment(entry.at)}</td>
                  <td className="px-3">{entry.cause.by}</td>
                  <td className="px-3">{entry.cause.act}{entry.cause.commit !== undefined && <> from <Link className="figures text-xs hover:underline" to={`/${environment}/-/sources`}>{entry.cause.commit.slice(0, 9)}</Link></>}</td>
                  <td className="px-3 whitespace-nowrap"><span className="text-soft">{entry.kind}</span> <Object entry={entry} /></td>
                  <td className="px-3 text-soft">{outcome(entry)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </>
  )
}

function Object({ entry }: { entry: TrailEntry }) {
  const [workload] = entry.key.split('@')
  if (['workload', 'release', 'rollout'].includes(entry.kind)) return <Link to={`/${workload ?? ''}`} className="hover:underline">{entry.key}</Link>
  return <>{entry.key}</>
}

/** What came of it, in few words. */
function outcome(entry: TrailEntry): string {
  const body = entry.body
  if (body === null) return 'it is gone'
  switch (entry.kind) {
    case 'workload': return `${body.wanted} wanted, release ${body.release}`
    case 'release': return `runs ${body.spec?.image ?? ''}${body.same_as == null ? '' : `, same as ${body.same_as}`}`
    case 'route': return `${taken(body)} leads to ${(body.to ?? []).map(({ service, share }) => `${service} ${share}`).join(', ')}`
    case 'rollout': return `${body.state}${body.verdict == null ? '' : `: ${body.verdict}`}`
    default: return ''
  }
}
