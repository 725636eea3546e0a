// The move to a release: how far it is, what was seen of both releases, and the verdict.

import { useEffect, useState } from 'react'
import { Link } from 'react-router'

import { lastLines } from '../api'
import { duration, key, millis, percent, signal, span, type Row } from '../view'
import type { EvidenceRow, FirstRun, Rollout, Rule } from '../model'
import { useView } from '../store'
import { SteerAct } from './acts'
import { Card, Pair } from './card'
import { Badge } from './signal'

const words = (step: NonNullable<Rule['steps']>[number]) =>
  `${step.share === undefined ? `${step.count ?? 0} replicas` : `${step.share} %`}${step.then === 'ask' ? ', then ask' : ` for ${step.watch ?? ''}`}`

export function RolloutCard({ row }: { row: Row }) {
  const { workload, rollout } = row
  const view = useView()
  if (rollout === undefined) return <Card title="Rollout"><p className="text-faint">No release was rolled out yet.</p></Card>
  const ready = row.view.lanes.find((lane) => lane.release === rollout.to)?.ready ?? 0
  const { open, last_took_ms: last } = row.view
  const over = rollout.state === 'went-back' || rollout.state === 'cancelled' || rollout.state === 'superseded'
  const part = workload.wanted === 0 ? 1 : Math.min(1, ready / workload.wanted)
  const colour = rollout.state === 'awaiting' || over || rollout.state === 'going-back' ? 'bg-caution' : open ? 'bg-moving' : 'bg-cell'
  const steps = rollout.purpose === 'change' && workload.rule.style === 'stepped' ? (workload.rule.steps ?? []) : []
  return (
    <Card title={`Rollout of release ${rollout.to}`} aside={<Badge of={signal(view, 'rollout', rollout.state)} word={rollout.state} />}>
      <div className="h-2.5 overflow-hidden rounded-full bg-line" role="progressbar" aria-label="ready in the new release" aria-valuenow={ready} aria-valuemax={workload.wanted}>
        <div className={`eases h-full ${colour}`} style={{ width: `${part * 100}%` }} />
      </div>
      <dl className="mt-2">
        {!over && <Pair name={`Ready in release ${rollout.to}`}>{ready} of {workload.wanted}, each for at least {workload.rule.settle}</Pair>}
        {rollout.first !== undefined && <Pair name="Before it serves"><First of={rollout.first} rollout={rollout} /></Pair>}
        {open && rollout.shadow === 'copying' && <Pair name="Shadow step">Copies of requests go to release {rollout.to}; <strong>no visitor</strong> reaches it yet</Pair>}
        {open && rollout.share !== null && <Pair name="Share"><strong>{rollout.share / 10} %</strong> of the requests go to release {rollout.to}</Pair>}
        {open && steps.length > 0 && (
          <Pair name="Steps">
            {[...steps.map(words), 'all'].map((step, place) => (
              <span key={step} aria-current={place === rollout.step ? 'step' : undefined} className={place === rollout.step ? 'font-semibold' : 'text-soft'}>{place > 0 && ' → '}{step}</span>
            ))}
          </Pair>
        )}
        {open && <Pair name="Never fewer than">{Math.max(0, workload.wanted - workload.rule.may_lack)} ready <span className="text-soft">of {workload.wanted} wanted</span></Pair>}
        <Pair name="Time">
          {duration(rollout.started, rollout.ended)}<span className="text-soft">{open ? `, each part at most ${workload.rule.deadline}` : ''}{last !== null && `, last time ${span(last)}`}</span>
        </Pair>
        {rollout.reason !== null && <Pair name="Why"><strong className="font-semibold">{rollout.reason.code}</strong> <span className="text-soft">{rollout.reason.sentence}</span></Pair>}
        <Begun row={row} rollout={rollout} />
        {rollout.verdict !== null && <Pair name="Verdict">{rollout.verdict}</Pair>}
        {rollout.warm_until !== null && Date.parse(rollout.warm_until) > view.now * 1000 && <Pair name="Kept beside">release {rollout.from}, so that going back is instant, for {workload.rule.keep_old}</Pair>}
      </dl>
      <Evidence rollout={rollout} rows={row.view.evidence} />
      {rollout.state === 'awaiting' && workload.held === null && (
        <div className="mt-3 flex gap-2.5">
          <SteerAct row={row} act="advance" tone="strong" />
          {rollout.from !== null && <SteerAct row={row} act="cancel" tone="danger" />}
        </div>
      )}
    </Card>
  )
}

/** Who began it and from which commit, and the hosts that lead there. */
function Begun({ row, rollout }: { row: Row; rollout: Rollout }) {
  const view = useView()
  const { environment } = row.workload.target
  const origin = view.objects.release[`${key(rollout.workload)}@${rollout.to}`]?.origin
  const commit = Object.values(view.objects.source).flatMap((source) => source.commits ?? []).find((it) => it.id === origin?.commit)
  return (
    <>
      {origin?.commit !== undefined && (
        <Pair name="From commit">
          <Link className="figures text-xs underline" to={`/${environment}/-/sources?commit=${origin.commit}`}>{origin.commit.slice(0, 9)}</Link> <span className="text-soft">{commit === undefined ? '' : `${commit.subject}, ${commit.by}`}</span>
        </Pair>
      )}
      {row.routes.length > 0 && (
        <Pair name="Reached at">
          {row.routes.map((route) => <Link key={route.at} className="figures mr-3 text-xs underline" to={`/${environment}/-/routes?find=${route.host ?? ''}`}>{route.at}</Link>)}
        </Pair>
      )}
    </>
  )
}

const FIRST = { due: 'waits to start', running: 'runs', passed: 'ended well', failed: 'failed', unknown: 'may have run; its outcome is unknown', waived: 'was skipped' }

/** The command that runs once, how it stands, and its last words where it did not end well. */
function First({ of, rollout }: { of: FirstRun; rollout: Rollout }) {
  const well = of.state === 'passed' || of.state === 'due' || of.state === 'running'
  const [lines, setLines] = useState<string[]>([])
  const { environment, name } = rollout.workload
  useEffect(() => {
    if (well) return
    let wanted = true
    lastLines({ environment, name }, rollout.to, `first${rollout.to}`, 100).then((found) => { if (wanted) setLines(found) }, () => { if (wanted) setLines([]) })
    return () => { wanted = false }
  }, [well, environment, name, rollout.to])
  return (
    <>
      <code className="text-xs">run_first</code> <strong className={`font-semibold ${well ? '' : 'text-caution'}`}>{FIRST[of.state]}</strong>
      <span className="text-soft">
        {of.node !== undefined && ` on ${of.node}`}
        {of.began !== undefined && ` after ${duration(of.began, of.ended ?? null)}`}
        {of.waived !== undefined && ` by ${of.waived.by}`}
        {!well && of.how !== undefined && `: ${of.how}`}
      </span>
      {!well && lines.length > 0 && (
        <pre className="figures mt-1 max-h-40 overflow-auto whitespace-pre-wrap rounded border border-line p-2 text-xs" tabIndex={0} aria-label="Last lines of run_first">{lines.join('\n')}</pre>
      )}
    </>
  )
}

function Evidence({ rollout, rows }: { rollout: Rollout; rows: EvidenceRow[] }) {
  const { evidence } = rollout
  if (rows.length === 0) return <p className="mt-2 text-[13px] text-faint">No request was answered meanwhile.</p>
  const name = ({ release, copies }: EvidenceRow) => `release ${release}${!copies ? '' : release === rollout.to ? ', copies' : ', the same'}`
  const line = (row: EvidenceRow) => (
    <tr key={name(row)} className="border-t border-line/70">
      <th scope="row" className="py-1 pr-3 font-medium">{name(row)}</th>
      <td className="figures pr-3 text-xs">{row.requests}</td>
      <td className={`figures pr-3 text-xs ${row.failed > 0 ? 'font-semibold text-fault' : ''}`}>{row.failed}{percent(row.failed, row.requests)}</td>
      {([['p50', row.p50], ['p95', row.p95], ['p99', row.p99]] as const).map(([part, time]) => <td key={part} className="figures pr-3 text-xs whitespace-nowrap">{millis(time)}</td>)}
    </tr>
  )
  const outlived = Object.entries(evidence.outlived ?? {})
  return (
    <div className="mt-2 overflow-x-auto" tabIndex={0} role="region" aria-label="Evidence">
      <table className="w-full text-left text-[13px]">
        <thead><tr className="text-soft">{['Evidence', 'Requests', 'Failed', 'p50', 'p95', 'p99'].map((word) => <th key={word} scope="col" className="py-1 pr-3 font-semibold">{word}</th>)}</tr></thead>
        <tbody>
          {rows.map(line)}
        </tbody>
      </table>
      {evidence.other_size > 0 && <p className="text-[13px] text-soft">{evidence.other_size} of the copies were answered in another size.</p>}
      {outlived.map(([replica, open]) => <p key={replica} className="text-[13px] text-caution">{open} open in {replica} outlived its drain limit and were cut.</p>)}
    </div>
  )
}
