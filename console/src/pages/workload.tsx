import * as Tabs from '@radix-ui/react-tabs'
import type { ReactNode } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import { NOT_ISOLATED, isolates, duration, isOpen, key, moment, rate, rows, short, signal, tag, type Row } from '../derive'
import { DeployAct, RollbackAct, ScaleAct } from '../parts/acts'
import { Line } from '../parts/line'
import { Log } from '../parts/log'
import { Badge } from '../parts/signal'
import { useView } from '../store'

export function WorkloadPage() {
  const view = useView()
  const [query, setQuery] = useSearchParams()
  const { environment = '', name = '' } = useParams()
  const row = rows(view, environment).find((each) => each.workload.target.name === name)
  if (row === undefined) {
    return <><h1 className="text-xl font-semibold">There is no workload {environment}/{name}.</h1> <Link className="underline" to={`/${environment}`}>To the board</Link></>
  }
  const { workload, release, rollout } = row
  const own = view.figures.filter((figure) => figure.workload === key(workload.target))
  const p95 = own.reduce<number | null>((most, figure) => (figure.p95 === null ? most : Math.max(most ?? 0, figure.p95)), null)
  const failed = own.reduce((sum, figure) => sum + figure.failed, 0)
  const moving = isOpen(rollout)
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="text-xl font-semibold">{name}</h1>
        <Badge of={signal(view, 'workload', workload.state)} word={workload.state} />
        <p className="min-w-0 grow text-soft">
          release {moving && rollout?.from != null ? <>{rollout.from} → <strong className="text-ink">{workload.release}</strong>, rolling</> : <strong className="text-ink">{workload.release}</strong>}
          {release?.same_as != null && ` (same as ${release.same_as})`}, <span className="figures text-xs">{release?.spec.image}</span>
        </p>
        <div className="flex flex-wrap gap-2.5">
          <ScaleAct row={row} />
          {workload.settled !== null && workload.settled !== workload.release
            ? <RollbackAct row={row} words={moving ? `Cancel, back to ${workload.settled}` : 'Roll back'} />
            : null}
          <DeployAct row={row} />
        </div>
      </div>
      {workload.reason && (
        <p role="status" className="mt-3 rounded-xl border border-line border-l-4 border-l-fault bg-card px-4 py-2.5">
          <strong className="font-semibold">{workload.reason.code}</strong> <span className="text-soft">{workload.reason.sentence}</span>
        </p>
      )}
      <Card className="mt-4" title="What answers now" aside={<span className="figures text-xs text-soft">{rate(row.rate)}{p95 !== null && ` · p95 ${p95 < 10 ? p95.toFixed(1) : Math.round(p95)} ms`} · {failed} failed</span>}>
        <Line row={row} />
        <p className="mt-1 text-[11px] text-faint">
          One cell, one replica: filled ready, dashed starting, half leaving, crossed failed.
          {row.replicas.some((replica) => !isolates(view, replica.node)) && <strong className="font-semibold text-caution"> They are {NOT_ISOLATED}: ordinary processes, of whose limits only memory is held.</strong>}
        </p>
      </Card>
      <div className="mt-4 grid gap-4 lg:grid-cols-[1.15fr_1fr]">
        <RolloutCard row={row} />
        <ReleasesCard row={row} />
      </div>
      <Card className="mt-4">
        <Tabs.Root value={query.get('tab') ?? 'log'} onValueChange={(tab) => setQuery((before) => { before.set('tab', tab); return before }, { replace: true })}>
          <div className="mb-3 flex flex-wrap gap-x-5 gap-y-1">
          <Tabs.List className="flex gap-5" aria-label="More about the workload">
            {[['log', 'Log'], ['replicas', 'Replicas'], ['settings', 'Settings'], ['checks', 'Checks']].map(([value, word]) => (
              <Tabs.Trigger key={value} value={value ?? ''} className="text-soft data-[state=active]:font-semibold data-[state=active]:text-ink">{word}</Tabs.Trigger>
            ))}
          </Tabs.List>
            <span className="ml-auto flex gap-4 text-[13px]">
              <Link to={`/${key(workload.target)}/log`} className="text-soft underline hover:text-ink">the whole log</Link>
              <Link to={`/${environment}/-/trail?of=${key(workload.target)}`} className="text-soft underline hover:text-ink">its trail</Link>
            </span>
          </div>
          <Tabs.Content value="log"><Log key={key(workload.target)} target={workload.target} replicas={row.replicas.map(short)} /></Tabs.Content>
          <Tabs.Content value="replicas"><Replicas row={row} /></Tabs.Content>
          <Tabs.Content value="settings"><Settings row={row} /></Tabs.Content>
          <Tabs.Content value="checks"><Checks row={row} /></Tabs.Content>
        </Tabs.Root>
      </Card>
    </>
  )
}

function Card({ title, aside, className = '', children }: { title?: string; aside?: ReactNode; className?: string; children: ReactNode }) {
  return (
    <section aria-label={title} className={`rounded-xl border border-line bg-card px-4.5 py-3.5 ${className}`}>
      {title !== undefined && (
        <div className="mb-2.5 flex items-baseline justify-between">
          <h2 className="text-[13px] font-semibold text-soft">{title}</h2>
          {aside}
        </div>
      )}
      {children}
    </section>
  )
}

function Pair({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex gap-4 border-b border-line/70 py-2 last:border-b-0">
      <dt className="w-40 shrink-0 text-soft">{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </div>
  )
}

function RolloutCard({ row }: { row: Row }) {
  const { workload, rollout } = row
  const view = useView()
  if (rollout === undefined) return <Card title="Rollout"><p className="text-faint">No release was rolled out yet.</p></Card>
  const ready = row.replicas.filter((replica) => replica.release === rollout.to && replica.state === 'ready').length
  const open = isOpen(rollout)
  const share = workload.wanted === 0 ? 1 : Math.min(1, ready / workload.wanted)
  return (
    <Card title={`Rollout of release ${rollout.to}`} aside={<Badge of={signal(view, 'rollout', rollout.state)} word={rollout.state} />}>
      <div className="h-2.5 overflow-hidden rounded-full bg-line" role="progressbar" aria-label="ready in the new release" aria-valuenow={ready} aria-valuemax={workload.wanted}>
        <div className={`eases h-full ${rollout.state === 'awaiting' ? 'bg-caution' : open ? 'bg-moving' : 'bg-cell'}`} style={{ width: `${share * 100}%` }} />
      </div>
      <dl className="mt-2">
        <Pair name={`Ready in release ${rollout.to}`}>{ready} of {workload.wanted}, each for at least {workload.rule.settle}</Pair>
        <Pair name="Never fewer than">{Math.max(0, workload.wanted - workload.rule.may_lack)} ready <span className="text-soft">({workload.wanted} wanted, {workload.rule.may_exceed} extra while moving)</span></Pair>
        <Pair name="Evidence">{rollout.evidence.served} requests, {rollout.evidence.failed} failed {open && <span className="text-soft">as of the last step</span>}</Pair>
        <Pair name="Time">{duration(rollout.started, rollout.ended)} of at most {workload.rule.deadline}</Pair>
        {rollout.verdict !== null && <Pair name="Verdict">{rollout.verdict}</Pair>}
      </dl>
    </Card>
  )
}

function ReleasesCard({ row }: { row: Row }) {
  const view = useView()
  const target = key(row.workload.target)
  const list = Object.values(view.objects.release).filter((release) => key(release.workload) === target).sort((a, b) => b.number - a.number).slice(0, 8)
  return (
    <Card title="Releases">
      <table className="w-full text-left">
        <tbody>
          {list.map((release) => {
            const rollout = view.objects.rollout[`${target}@${release.number}`]
            const state = rollout?.state ?? 'superseded'
            return (
              <tr key={release.number} className="border-b border-line/70 last:border-b-0">
                <th scope="row" className="py-2 pr-2 font-semibold whitespace-nowrap">
                  {release.number}{release.same_as !== null && <span className="font-normal text-soft"> (same as {release.same_as})</span>}
                </th>
                <td className="pr-2"><Badge of={signal(view, 'rollout', state)} word={state} /></td>
                <td className="figures pr-2 text-xs">{tag(release.spec.image)}</td>
                <td className="pr-2 whitespace-nowrap">{moment(release.origin.at)} <span className="text-soft">{release.origin.by}</span></td>
                <td className="py-1.5 text-right">
                  {release.number !== row.workload.release && state === 'done' && (release.same_as ?? release.number) !== (row.release?.same_as ?? row.workload.release) && <RollbackAct row={row} to={release.number} words="Roll back" />}
                  {rollout?.reason != null && <span className="text-soft">{rollout.reason.code}</span>}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </Card>
  )
}

function Replicas({ row }: { row: Row }) {
  const view = useView()
  return (
    <div className="max-h-72 overflow-auto" tabIndex={0} role="region" aria-label="Replicas">
      <table className="w-full text-left">
        <thead>
          <tr className="text-[13px] text-soft">
            {['Replica', 'State', 'Release', 'Node', 'Address', 'Started', 'Restarts', 'Why'].map((word) => <th key={word} scope="col" className="py-1 pr-3 font-semibold">{word}</th>)}
          </tr>
        </thead>
        <tbody>
          {row.replicas.map((replica) => (
            <tr key={replica.id} className="border-t border-line/70">
              <th scope="row" className="figures py-1.5 pr-3 text-xs font-medium">{short(replica)}</th>
              <td className="pr-3"><Badge of={signal(view, 'replica', replica.state)} word={replica.state} /></td>
              <td className="pr-3">{replica.release}</td>
              <td className="pr-3">{replica.node ?? 'none yet'}{!isolates(view, replica.node) && <span className="text-caution">, {NOT_ISOLATED}</span>}</td>
              <td className="figures pr-3 text-xs">{replica.address ?? '-'}</td>
              <td className="pr-3">{moment(replica.created)}</td>
              <td className="pr-3">{replica.restarts}</td>
              <td className="text-soft">{replica.reason?.sentence}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

function Settings({ row }: { row: Row }) {
  const spec = row.release?.spec
  if (spec === undefined) return null
  const pairs = Object.entries(spec.settings)
  return (
    <dl>
      {pairs.length === 0 && <p className="text-faint">No setting is declared.</p>}
      {pairs.map(([name, value]) => <Pair key={name} name={name}><span className="figures text-xs">{value}</span></Pair>)}
      <Pair name="Limits">{spec.limits.cpu} cpu, {spec.limits.memory}, {spec.limits.processes} processes</Pair>
      <Pair name="Reserve">{spec.reserve.cpu} cpu, {spec.reserve.memory}</Pair>
      <Pair name="Image digest"><span className="figures text-xs">{row.release?.digest ?? 'not in the store yet'}</span></Pair>
    </dl>
  )
}

function Checks({ row }: { row: Row }) {
  const checks = row.release?.spec.checks
  const words = (check: { path?: string; connect?: string; every: string; within: string } | undefined, none: string) =>
    check === undefined ? none : `${check.path === undefined ? `connects to ${check.connect ?? ''}` : `GET ${check.path}`} every ${check.every}, within ${check.within}`
  const hasPort = Object.keys(row.release?.spec.ports ?? {}).length > 0
  return (
    <dl>
      <Pair name="Ready">{words(checks?.ready, hasPort ? 'takes connections on its first port' : 'runs')}</Pair>
      <Pair name="Alive">{words(checks?.alive, 'until its process ends')}</Pair>
    </dl>
  )
}
