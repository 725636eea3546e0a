import { useEffect, useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import { sides } from '../api'
import { capital, key, local, taken } from '../derive'
import type { Commit, Release, Side, Signal, Source } from '../model'
import { asOf } from '../moment'
import { Command } from '../parts/command'
import { Badge } from '../parts/signal'
import { CatchUp, Hold, Look, Resume, WriteBack, touched } from '../parts/sources'
import { useRows, useView } from '../store'

/** Git: the commits, where each environment stands on them, what differs, and what is left alone. */
export function SourcesPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const own = Object.values(view.objects.source).filter((source) => source.target.environment === environment)
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-xl font-semibold">Sources</h1>
        <Command words={`mainyard source add ${environment}/NAME URL --at main --folder deploy`} />
      </div>
      {own.length === 0 ? (
        <p className="rounded-xl border border-line bg-card p-6">
          {environment} follows no repository yet. Let it follow a folder of one with the command above: it becomes what the folder says, commit by commit, and leaves alone what a person touches.
        </p>
      ) : own.map((source) => <One key={key(source.target)} source={source} />)}
    </>
  )
}

const short = (id: string) => id.slice(0, 9)

function One({ source }: { source: Source }) {
  const view = useView()
  const of: Signal = view.signals.source[source.state] ?? 'caution'
  const { catching_up: on } = source
  return (
    <section className="mb-5 rounded-xl border border-line bg-card" aria-label={`Source ${source.target.name}`} data-testid="source">
      <header className="flex flex-wrap items-center gap-x-3 gap-y-2 border-b border-line px-4 py-3">
        <h2 className="text-base font-semibold">{source.target.name}</h2>
        <Badge of={of} word={source.state} />
        {source.held !== undefined && <Badge of="caution" word="held" />}
        <p className="figures text-xs text-soft">{source.url} at {source.at}{source.folder === undefined ? '' : `, ${source.folder}`}</p>
        <div className="ml-auto flex flex-wrap gap-2">
          {asOf === null && <Look source={source} />}
          {(source.held !== undefined || source.set_back !== undefined || source.yields !== undefined) && <Resume source={source} />}
          {source.held === undefined && <Hold source={source} />}
          {source.state === 'drifted' || source.yields !== undefined ? <WriteBack source={source} /> : null}
          {source.held === undefined && ['behind', 'drifted'].includes(source.state) && <CatchUp source={source} />}
        </div>
      </header>
      <div className="px-4 py-3">
        {on !== undefined && <p className="mb-2">On its way to <span className="figures">{short(on.commit.id)}</span>{on.waits_for === undefined ? '.' : `; waits for ${on.waits_for}.`}</p>}
        {source.held !== undefined && <p className="mb-2">Held because {source.held.because}, by {source.held.origin.by}. It does nothing until it is resumed.</p>}
        {source.reason !== null && <p className="mb-2">{sentence(source.reason.sentence)}</p>}
        {source.problems !== undefined && (
          <ul className="mb-2 list-none">
            {source.problems.map((problem) => (
              <li key={`${problem.place.file}${problem.place.line}${problem.message}`}><span className="figures text-xs text-soft">{problem.place.file}:{problem.place.line}:{problem.place.column}</span> {problem.message}</li>
            ))}
          </ul>
        )}
        <Commits source={source} />
        <Sides source={source} />
        {source.yields !== undefined && (
          <>
            <h3 className="mt-4 mb-1 font-semibold">Left alone, because a person touched it</h3>
            <ul>
              {source.yields.map((it) => (
                <li key={JSON.stringify(it.what)} className="flex flex-wrap items-center gap-3 py-1">
                  <Badge of="caution" word={touched(it.what)} />
                  <span className="text-soft">{it.origin.act} by {it.origin.by} at {clock(it.origin.at)}; everything else goes on following</span>
                </li>
              ))}
            </ul>
          </>
        )}
      </div>
    </section>
  )
}

/** The line of commits, the newest above, with the environments that stand on them and what came of each. */
function Commits({ source }: { source: Source }) {
  const view = useView()
  const all = Object.values(view.objects.source).filter((other) => other.url === source.url && other.folder === source.folder)
  const releases = Object.values(view.objects.release).filter((release) => release.origin.commit !== undefined && release.workload.environment === source.target.environment)
  const commits = (source.commits ?? []).slice(0, 8)
  const [query] = useSearchParams()
  const sought = query.get('commit') ?? ''
  const stands = commits.findIndex((commit) => commit.id === source.applied?.id)
  return (
    <ol aria-label="Commits" className="relative">
      {commits.map((commit, index) => {
        const here = all.filter((other) => other.applied?.id === commit.id).map((other) => other.target.environment)
        const taken = stands >= 0 && index >= stands
        const back = source.set_back?.commit === commit.id
        return (
          <li key={commit.id} className={`flex items-baseline gap-3 rounded-md py-1 ${sought !== '' && commit.id.startsWith(sought) ? 'bg-moving-wash' : ''}`} data-commit={short(commit.id)}>
            <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden className="shrink-0 self-center overflow-visible">
              {index < commits.length - 1 && <line x1="8" x2="8" y1="8" y2="38" className={taken ? 'stroke-cell' : 'stroke-faint'} strokeWidth="2" strokeDasharray={taken ? undefined : '3 3'} />}
              <circle cx="8" cy="8" r="5" className={taken ? 'fill-cell stroke-cell' : 'fill-card stroke-faint'} strokeWidth="2" />
              {back && <path d="M4.5 4.5l7 7m0-7l-7 7" className="stroke-fault" strokeWidth="2" />}
            </svg>
            <span className="figures text-xs">{short(commit.id)}</span>
            <span className="min-w-0 wrap-anywhere">{commit.subject}</span>
            <span className="text-[13px] whitespace-nowrap text-soft">{commit.by}, {day(commit)}</span>
            {here.map((environment) => <Badge key={environment} of="good" word={`${environment} stands here`} />)}
            {back && <Badge of="caution" word="went back" />}
            {releases.filter((release) => release.origin.commit === commit.id).map((release) => <Made key={`${key(release.workload)}${release.number}`} release={release} />)}
          </li>
        )
      })}
    </ol>
  )
}

/** A release that a commit made: what became of its rollout, and where it is reached. */
function Made({ release }: { release: Release }) {
  const view = useView()
  const target = key(release.workload)
  const rollout = view.objects.rollout[`${target}@${release.number}`]
  const row = useRows(release.workload.environment).find((each) => key(each.workload.target) === target)
  const now = row?.workload.release === release.number
  return (
    <span className="inline-flex items-baseline gap-1.5 text-xs whitespace-nowrap">
      <Link to={`/${target}`} className="figures text-soft hover:underline">{release.workload.name}@{release.number}</Link>
      {rollout !== undefined && <Badge of={view.signals.rollout[rollout.state] ?? 'rest'} word={rollout.state} />}
      {now && row.routes.map((route) => <Link key={taken(route)} to={`/${release.workload.environment}/-/routes?find=${route.host ?? ''}`} className="figures text-soft hover:underline">{taken(route)}</Link>)}
    </span>
  )
}

/** What Git says, what is declared here and what runs, where they differ. */
function Sides({ source }: { source: Source }) {
  const [rows, setRows] = useState<Side[] | null>(null)
  // Asked again whenever the source changed.
  const { target, state, seen, applied, differs, yields } = source
  const asked = JSON.stringify([state, seen?.id, applied?.id, differs, yields])
  const { environment, name } = target
  useEffect(() => {
    // What Git declared then is not compared again.
    if (asOf !== null) return
    let wanted = true
    sides({ environment, name }).then((found) => { if (wanted) setRows(found) }, () => { if (wanted) setRows(null) })
    return () => { wanted = false }
  }, [environment, name, asked])
  if (rows === null || rows.length === 0) return null
  return (
    <div className="mt-4 overflow-x-auto rounded-lg border border-line" tabIndex={0} role="region" aria-label="What differs">
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            {['What differs', 'Field', 'In Git', 'Declared here', 'Running'].map((word) => <th key={word} scope="col" className="px-3 py-2 font-semibold">{word}</th>)}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={`${row.object}${row.field}`} className="border-b border-line/70 last:border-b-0">
              <th scope="row" className="px-3 py-1.5 font-medium">{row.object}</th>
              <td className="px-3">{row.field}</td>
              <td className="figures px-3 text-xs">{row.git ?? 'not there'}</td>
              <td className={`figures px-3 text-xs ${row.here === row.git ? '' : 'text-caution'}`}>{row.here ?? 'not there'}</td>
              <td className={`figures px-3 text-xs ${row.running === row.here || row.running === null ? '' : 'text-caution'}`}>{row.running ?? '-'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

const sentence = (text: string) => local(`${capital(text)}.`)
const clock = (at: string) => new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
const day = (commit: Commit) => new Date(commit.at).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
