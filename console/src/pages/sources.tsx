import { useEffect, useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import { sides } from '../api'
import { environmentView, key, rowOf, sentence } from '../view'
import type { Commit, CommitRelease, Side, Source, SourceView } from '../model'
import { asOf } from '../moment'
import { Command } from '../parts/command'
import { Badge } from '../parts/signal'
import { CatchUp, Hold, Look, Resume, WriteBack } from '../parts/sources'
import { useView } from '../store'

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
      ) : own.map((source) => <One key={key(source.target)} source={source} shown={environmentView(view, environment).sources[source.target.name] ?? NOT_TOLD} />)}
    </>
  )
}

const short = (id: string) => id.slice(0, 9)

/** Until the platform has told what belongs to a source. */
const NOT_TOLD: SourceView = { signal: 'rest', commits: [], left_alone: [], acts: [] }

function One({ source, shown }: { source: Source; shown: SourceView }) {
  const { acts } = shown
  const { catching_up: on } = source
  return (
    <section className="mb-5 rounded-xl border border-line bg-card" aria-label={`Source ${source.target.name}`} data-testid="source">
      <header className="flex flex-wrap items-center gap-x-3 gap-y-2 border-b border-line px-4 py-3">
        <h2 className="text-base font-semibold">{source.target.name}</h2>
        <Badge of={shown.signal} word={source.state} />
        {source.held !== undefined && <Badge of="caution" word="held" />}
        <p className="figures text-xs text-soft">{source.url} at {source.at}{source.folder === undefined ? '' : `, ${source.folder}`}</p>
        <div className="ml-auto flex flex-wrap gap-2">
          {asOf === null && <Look source={source} />}
          {acts.includes('resume') && <Resume source={source} />}
          {acts.includes('hold') && <Hold source={source} />}
          {acts.includes('write-back') && <WriteBack source={source} />}
          {acts.includes('catch-up') && <CatchUp source={source} />}
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
        <Commits shown={shown} environment={source.target.environment} />
        <Sides source={source} />
        {shown.left_alone.length > 0 && (
          <>
            <h3 className="mt-4 mb-1 font-semibold">Left alone, because a person changed it</h3>
            <ul>
              {shown.left_alone.map((it) => (
                <li key={it.what} className="flex flex-wrap items-center gap-3 py-1">
                  <Badge of="caution" word={it.what} />
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
function Commits({ shown: { commits }, environment }: { shown: SourceView; environment: string }) {
  const [query] = useSearchParams()
  const sought = query.get('commit') ?? ''
  return (
    <ol aria-label="Commits" className="relative">
      {commits.map((commit, index) => {
        const { taken, stands, went_back: back } = commit
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
            {stands.map((where) => <Badge key={where} of="good" word={`${where} stands here`} />)}
            {back && <Badge of="caution" word="went back" />}
            {commit.releases.map((made) => <Made key={`${made.workload}${made.release}`} made={made} environment={environment} />)}
          </li>
        )
      })}
    </ol>
  )
}

/** A release that a commit made: what became of its rollout, and where it is reached. */
function Made({ made, environment }: { made: CommitRelease; environment: string }) {
  const view = useView()
  const row = made.wanted ? rowOf(view, environment, made.workload) : undefined
  return (
    <span className="inline-flex items-baseline gap-1.5 text-xs whitespace-nowrap">
      <Link to={`/${environment}/${made.workload}`} className="figures text-soft hover:underline">{made.workload}@{made.release}</Link>
      {made.state !== null && <Badge of={view.signals.rollout[made.state] ?? 'rest'} word={made.state} />}
      {row?.routes.map((route) => <Link key={route.at} to={`/${environment}/-/routes?find=${route.host ?? ''}`} className="figures text-soft hover:underline">{route.at}</Link>)}
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

const clock = (at: string) => new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
const day = (commit: Commit) => new Date(commit.at).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
