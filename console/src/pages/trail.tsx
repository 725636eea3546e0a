import { useEffect, useState } from 'react'
import { Link, useLocation, useParams } from 'react-router'

import { trail } from '../api'
import type { TrailEntry } from '../model'
import { asOf, base, forField, then } from '../moment'
import { Command } from '../parts/command'
import { Table, type Column } from '../parts/table'
import { useQuery } from '../query'
import { useView } from '../store'
import { Choice } from '../parts/choice'
import { Hint } from '../parts/hint'
import { Tick } from '../parts/tick'

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
    let wanted = true
    const asked = new URLSearchParams(search)
    const [from, until] = [stamp(asked.get('from') ?? ''), stamp(asked.get('until') ?? '')]
    // Of the past there is nothing that came later.
    const end = asOf !== null && (until === '' || until > asOf) ? asOf : until
    const words = Object.fromEntries(['of', 'by', 'act', 'kind'].flatMap((key) => (asked.get(key) === null ? [] : [[key, asked.get(key) ?? '']])))
    trail({ limit: MOST, environment, platform: asked.get('platform') !== null, ...words, ...(from !== '' && { from }), ...(end !== '' && { until: end }) }).then(
      (found) => {
        if (!wanted) return
        setEntries(found)
        setPeople((known) => [...new Set([...known, ...found.map((entry) => entry.cause.by)])].sort())
        setTrouble('')
      },
      (cause: unknown) => { if (wanted) setTrouble(cause instanceof Error ? cause.message : 'the platform does not answer') },
    )
    return () => { wanted = false }
  }, [search, environment, view.lastAct])

  const shown = entries ?? []
  const any = ['of', 'by', 'act', 'kind', 'from', 'until'].some((key) => value(key) !== '')
  const field = 'rounded-lg border border-line bg-card px-3 py-1.5'
  const choice = (key: string, label: string, all: string, words: string[]) => (
    <Choice
      label={label} value={value(key)} onChange={(next) => put(key, next)}
      options={[{ value: '', words: all }, ...[...new Set([...words, ...(value(key) === '' ? [] : [value(key)])])].map((each) => ({ value: each }))]}
    />
  )
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Trail of {environment}</h1>
        <p className="text-soft">{value('platform') === '' ? 'Acts of people' : 'Acts of people, and the platform’s own decisions'}, the newest first</p>
      </div>
      <div className="my-3 flex flex-wrap items-center gap-2">
        <input type="search" aria-label="Of one object" placeholder="One object: staging/locker-api" value={value('of')} onChange={(event) => put('of', event.target.value)} className={`${field} w-72 max-sm:w-full`} />
        {choice('by', 'By whom', 'everybody', people)}
        {choice('act', 'Which act', 'every act', ACTS)}
        {choice('kind', 'Of which kind', 'everything', KINDS)}
        <label className="text-[13px] text-soft">from <input type="datetime-local" step="1" aria-label="Not before" value={value('from')} onChange={(event) => put('from', event.target.value)} className={`${field} figures text-xs`} /></label>
        <label className="text-[13px] text-soft">until <input type="datetime-local" step="1" aria-label="Not after" value={value('until')} max={forField(new Date(view.now))} onChange={(event) => put('until', event.target.value)} className={`${field} figures text-xs`} /></label>
        <Tick words="what the platform decided too" on={value('platform') !== ''} onChange={(on) => put('platform', on ? 'true' : '')} />
      </div>
      {trouble !== '' && <p role="alert" className="mb-3 text-fault">The trail cannot be read: {trouble}. It is tried again with the next change.</p>}
      <div>
        {entries !== null && shown.length === 0 ? (
          <div className="rounded-xl border border-line bg-card p-6">
            <p className="mb-2">{any ? 'Nothing matches.' : 'Nobody has changed anything here yet. Every act will be listed here.'}</p>
            {!any && <Command words={`mainyard declare mainyard.toml --in ${environment}`} />}
          </div>
        ) : (
          <Table label="Acts" columns={columns(environment)} rows={shown} name={(entry) => String(entry.number)} />
        )}
        {shown.length >= MOST && <p className="px-3 py-2 text-soft">The newest {shown.length}; narrow the search to see older ones{base === '' ? '' : ', or for an earlier moment'}.</p>}
      </div>
    </>
  )
}

const columns = (environment: string): Column<TrailEntry>[] => [
  {
    head: 'When', by: (entry) => entry.number,
    // Another page of the console, as everything was then.
    cell: (entry) => <Hint words="The board as it was then"><a className="figures text-xs hover:underline" href={then(entry.at, `/${environment}`)}>{dated(entry.at)}</a></Hint>,
  },
  { head: 'Who', by: (entry) => entry.cause.by, cell: (entry) => entry.cause.by },
  {
    head: 'Did', by: (entry) => entry.cause.act,
    cell: (entry) => <>{entry.cause.act}{entry.cause.commit !== undefined && <> from <Link className="figures text-xs hover:underline" to={`/${environment}/-/sources?commit=${entry.cause.commit}`}>{entry.cause.commit.slice(0, 9)}</Link></>}</>,
  },
  { head: 'To', names: true, breaks: true, by: (entry) => entry.key, cell: (entry) => <span className="font-normal"><span className="text-soft">{entry.kind}</span> <Changed kind={entry.kind} name={entry.key} /></span> },
  { head: 'So that', breaks: true, cell: (entry) => <><span className="text-soft">{entry.so_that}</span><Also of={entry} /></> },
]

/** What else the same act changed. */
function Also({ of: { also = [] } }: { of: TrailEntry }) {
  if (also.length === 0) return null
  return (
    <details className="mt-0.5 text-[13px] text-soft">
      <summary className="cursor-pointer">{also.length === 1 ? '1 further change' : `${also.length} further changes`}</summary>
      <ul>{also.map((change) => <li key={`${change.kind} ${change.key}`}>{change.kind} <Changed kind={change.kind} name={change.key} /> {change.so_that}</li>)}</ul>
    </details>
  )
}

function Changed({ kind, name }: { kind: string; name: string }) {
  const [workload] = name.split('@')
  if (['workload', 'release', 'rollout'].includes(kind)) return <Link to={`/${workload ?? ''}`} className="hover:underline">{name}</Link>
  return <>{name}</>
}

/** The day too: a trail goes back for long. */
const dated = (iso: string) => new Date(iso).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit', timeZoneName: 'short' })
