import { useEffect, useState } from 'react'
import { Link, useLocation, useParams } from 'react-router'

import { moment } from '../derive'
import type { TrailEntry } from '../model'
import { asOf, base, forField, then } from '../moment'
import { Command } from '../parts/command'
import { useQuery } from '../query'
import { useView } from '../store'

const MOST = 300
const ACTS = ['declared', 'deployed', 'scaled', 'rolled back', 'promoted', 'advanced', 'cancelled', 'held', 'resumed', 'restarted', 'added', 'changed', 'removed']
const KINDS = ['workload', 'release', 'rollout', 'service', 'route', 'source', 'secret', 'certificate', 'image', 'environment']

/** A field's local time as the API takes it. */
const stamp = (local: string) => (Number.isNaN(Date.parse(local)) ? '' : new Date(local).toISOString())

/** Who did what, the newest first. What is looked for is in the address. */
export function TrailPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const { search } = useLocation()
  const [query, put] = useQuery()
  const value = (key: string) => query.get(key) ?? ''
  const [entries, setEntries] = useState<TrailEntry[] | null>(null)
  const [people, setPeople] = useState<string[]>([])
  const [trouble, setTrouble] = useState('')

  // Read again whenever a person has done something.
  useEffect(() => {
    const stop = new AbortController()
    const asked = new URLSearchParams(search)
    const sent = new URLSearchParams({ limit: String(MOST), environment })
    for (const key of ['of', 'by', 'act', 'kind', 'platform']) if (asked.get(key) !== null) sent.set(key, asked.get(key) ?? '')
    const [from, until] = [stamp(asked.get('from') ?? ''), stamp(asked.get('until') ?? '')]
    if (from !== '') sent.set('from', from)
    if (until !== '') sent.set('until', until)
    // Of the past there is nothing that came later.
    if (asOf !== null && (until === '' || until > asOf)) sent.set('until', asOf)
    const read = async () => {
      const answer = await fetch(`/api/v1/trail?${sent.toString()}`, { signal: stop.signal })
      if (!answer.ok) throw new Error(`the platform answers ${answer.status}`)
      const found = (await answer.json()) as TrailEntry[]
      setEntries(found)
      setPeople((known) => [...new Set([...known, ...found.map((entry) => entry.cause.by)])].sort())
      setTrouble('')
    }
    read().catch((cause: unknown) => {
      if (!stop.signal.aborted) setTrouble(cause instanceof Error ? cause.message : 'the platform does not answer')
    })
    return () => stop.abort()
  }, [search, environment, view.lastAct])

  const shown = entries ?? []
  const any = ['of', 'by', 'act', 'kind', 'from', 'until'].some((key) => value(key) !== '')
  const field = 'rounded-lg border border-line bg-card px-3 py-1.5'
  const choice = (key: string, label: string, all: string, words: string[]) => (
    <select aria-label={label} value={value(key)} onChange={(event) => put(key, event.target.value)} className={field}>
      <option value="">{all}</option>
      {[...new Set([...words, ...(value(key) === '' ? [] : [value(key)])])].map((each) => <option key={each} value={each}>{each}</option>)}
    </select>
  )
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Trail of {environment}</h1>
        <p className="text-soft">{value('platform') === '' ? 'Every act of a person' : 'Every act of a person, and what the platform decided'}, the newest first</p>
      </div>
      <div className="my-3 flex flex-wrap items-center gap-2">
        <input type="search" aria-label="Of one object" placeholder="One object: staging/locker-api" value={value('of')} onChange={(event) => put('of', event.target.value)} className={`${field} w-72 max-sm:w-full`} />
        {choice('by', 'By whom', 'everybody', people)}
        {choice('act', 'Which act', 'every act', ACTS)}
        {choice('kind', 'Of which kind', 'everything', KINDS)}
        <label className="text-[13px] text-soft">from <input type="datetime-local" step="1" aria-label="Not before" value={value('from')} onChange={(event) => put('from', event.target.value)} className={`${field} figures text-xs`} /></label>
        <label className="text-[13px] text-soft">until <input type="datetime-local" step="1" aria-label="Not after" value={value('until')} max={forField(new Date(view.now))} onChange={(event) => put('until', event.target.value)} className={`${field} figures text-xs`} /></label>
        <label className="flex items-center gap-2"><input type="checkbox" checked={value('platform') !== ''} onChange={(event) => put('platform', event.target.checked ? 'true' : '')} /> what the platform decided too</label>
      </div>
      {trouble !== '' && <p role="alert" className="mb-3 text-fault">The trail cannot be read: {trouble}. It is tried again with the next change.</p>}
      <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Acts">
        {entries !== null && shown.length === 0 ? (
          <div className="p-6">
            <p className="mb-2">{any ? 'Nothing is like that.' : 'Nobody has done anything here yet. What people do stands here, for good.'}</p>
            {!any && <Command words={`mainyard declare mainyard.toml --in ${environment}`} />}
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
                  <td className="figures px-3 py-2 text-xs whitespace-nowrap">
                    {/* Another page of the console, as everything was then. */}
                    <a className="hover:underline" href={then(entry.at, `/${environment}`)} title="The board as it was then">{moment(entry.at, true)}</a>
                  </td>
                  <td className="px-3">{entry.cause.by}</td>
                  <td className="px-3 whitespace-nowrap">{entry.cause.act}{entry.cause.commit !== undefined && <> from <Link className="figures text-xs hover:underline" to={`/${environment}/-/sources?commit=${entry.cause.commit}`}>{entry.cause.commit.slice(0, 9)}</Link></>}</td>
                  <td className="px-3 whitespace-nowrap"><span className="text-soft">{entry.kind}</span> <Object entry={entry} /></td>
                  <td className="px-3 text-soft">{entry.so_that}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {shown.length >= MOST && <p className="px-3 py-2 text-soft">The newest {shown.length}; ask for less to see further back{base === '' ? '' : ', or for an earlier moment'}.</p>}
      </div>
    </>
  )
}

function Object({ entry }: { entry: TrailEntry }) {
  const [workload] = entry.key.split('@')
  if (['workload', 'release', 'rollout'].includes(entry.kind)) return <Link to={`/${workload ?? ''}`} className="hover:underline">{entry.key}</Link>
  return <>{entry.key}</>
}
