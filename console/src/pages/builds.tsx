import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import { build as buildOf, builds, cancelBuild, followBuild } from '../api'
import type { BuildLine, BuildStep, BuildView } from '../model'
import { Button } from '../parts/button'
import { Card } from '../parts/card'
import { Code } from '../parts/code'
import { Command } from '../parts/command'
import { Nothing, PageHead, Trouble } from '../parts/page'
import { Table, type Column } from '../parts/table'
import { size } from '../view'

/** Asked again so often: others build too. */
const EVERY = 3_000
/** Lines of a build that are shown. */
const LINES = 2_000

/** What was built from code, and one build with its log. */
export function BuildsPage() {
  const [query, setQuery] = useSearchParams()
  const shown = query.get('build')
  const { environment = '' } = useParams()
  const { data, error } = useQuery({ queryKey: ['builds'], queryFn: builds, refetchInterval: EVERY })
  return (
    <>
      <PageHead title="Builds" about="Images that were made from code, the newest first. A recipe.toml in the code says how; send the folder with the command.">
        <Command words="mainyard build FOLDER" />
      </PageHead>
      {error !== null && <Trouble cause={error} />}
      {shown !== null && <OneBuild key={shown} number={Number(shown)} close={() => { setQuery((before) => { before.delete('build'); return before }) }} />}
      <Code environment={environment} />
      {data !== undefined && data.length === 0 && <Nothing>Nothing was built yet. `mainyard recipe suggest FOLDER` writes a recipe for many kinds of code, and the command above builds it.</Nothing>}
      {data !== undefined && data.length > 0 && <Table label="Builds" columns={columns} rows={data} name={(each) => String(each.number)} />}
    </>
  )
}

const columns: Column<BuildView>[] = [
  { head: 'Build', names: true, by: (each) => each.number, cell: (each) => <BuildLink number={each.number} /> },
  { head: 'State', by: (each) => each.state, cell: (each) => <State view={each} /> },
  { head: 'Image', breaks: true, by: (each) => each.image, cell: (each) => <span className="figures text-xs">{each.image}</span> },
  { head: 'Commit', cell: (each) => <CommitOf view={each} /> },
  { head: 'Asked', by: (each) => each.asked, cell: (each) => <span className="text-soft">{each.asked.slice(0, 16).replace('T', ' ')} by {each.by}</span> },
  { head: 'Says', breaks: true, cell: (each) => each.says },
]

function BuildLink({ number }: { number: number }) {
  const [, setQuery] = useSearchParams()
  return <button type="button" className="figures cursor-pointer hover:underline" onClick={() => { setQuery((before) => { before.set('build', String(number)); return before }) }}>{number}</button>
}

function State({ view }: { view: BuildView }) {
  const tone = { failed: 'text-fault', running: 'text-moving', queued: 'text-soft', cancelled: 'text-soft', done: '' }[view.state]
  return <span className={`font-medium ${tone}`}>{view.state}</span>
}

function CommitOf({ view }: { view: BuildView }) {
  const commit = view.commit
  if (commit == null) return <span className="text-soft">-</span>
  return <span className="figures text-xs">{commit.id.slice(0, 12)}{commit.changed ? ' with changes' : ''}</span>
}

function OneBuild({ number, close }: { number: number; close: () => void }) {
  const { environment = '' } = useParams()
  const { data: first, error } = useQuery({ queryKey: ['build', number], queryFn: () => buildOf(number) })
  const [live, setLive] = useState<BuildView>()
  const [lines, setLines] = useState<BuildLine[]>([])
  useEffect(() => {
    const ended = new AbortController()
    void followBuild(number, ended.signal, (event) => {
      if ('build' in event) setLive(event.build)
      else setLines((before) => [...before, event.line.line].slice(-LINES))
    })
    return () => { ended.abort() }
  }, [number])
  const view = live ?? first
  return (
    <Card title={`Build ${number}`} className="mb-4" aside={<button type="button" className="cursor-pointer text-soft hover:underline" onClick={close}>Close</button>}>
      {error !== null && <Trouble cause={error} />}
      {view !== undefined && (
        <>
          <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-2">
            <State view={view} />
            <p className="min-w-0 grow wrap-anywhere">{view.says}</p>
            {view.digest != null && <Link className="hover:underline" to={`/${environment}/-/images?image=${encodeURIComponent(view.image)}`}>The image</Link>}
            {(view.state === 'running' || view.state === 'queued') && <Button onClick={() => { void cancelBuild(number) }}>End it</Button>}
          </div>
          <Fault view={view} />
          <Steps view={view} />
        </>
      )}
      <Lines lines={lines} />
    </Card>
  )
}

/** Why it failed: what to do, and the step's last lines. */
function Fault({ view }: { view: BuildView }) {
  const fault = view.fault
  if (fault == null) return null
  return (
    <div role="alert" className="mb-3">
      {(fault.fix ?? '') !== '' && <p className="mb-2"><span className="text-soft">Fix:</span> {fault.fix}</p>}
      {(fault.last_lines ?? []).length > 0 && <pre className="figures overflow-x-auto rounded-lg border border-line bg-paper p-3 text-xs">{(fault.last_lines ?? []).join('\n')}</pre>}
    </div>
  )
}

interface Row { number: number; step: BuildStep; says: string }

const steps: Column<Row>[] = [
  { head: 'Step', names: true, cell: (row) => <span className="figures">{row.number}</span> },
  { head: 'Part', cell: (row) => row.step.part },
  { head: 'Does', breaks: true, cell: (row) => <span className="figures text-xs">{row.step.words}</span> },
  { head: 'Took', cell: (row) => <span className={row.step.state === 'failed' ? 'text-fault' : row.step.state === 'waiting' ? 'text-soft' : ''}>{row.says}</span> },
  { head: 'Layer', cell: (row) => <span className="figures text-xs">{row.step.layer == null ? '' : size(row.step.layer.size)}</span> },
]

function Steps({ view }: { view: BuildView }) {
  const rows = useMemo(() => view.steps.map((step, at) => ({ number: at + 1, step, says: view.steps_say[at] ?? '' })), [view])
  return <Table label={`Steps of build ${view.number}`} columns={steps} rows={rows} name={(row) => String(row.number)} />
}

function Lines({ lines }: { lines: BuildLine[] }) {
  if (lines.length === 0) return null
  return (
    <pre role="log" aria-label="What the steps wrote" aria-live="off" tabIndex={0} className="figures mt-3 max-h-96 overflow-auto rounded-lg border border-line bg-paper p-3 text-xs">
      {lines.map((line) => line.text).join('\n')}
    </pre>
  )
}
