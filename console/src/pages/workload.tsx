import * as Tabs from '@radix-ui/react-tabs'
import { useQuery } from '@tanstack/react-query'
import { Link, useParams, useSearchParams } from 'react-router'

import { NOT_ISOLATED, isolates, key, local, millis, moment, rate, rowOf, served, short, signal, type Row } from '../view'
import { fetches } from '../api'
import type { LiveChange, Replica, SecretUse, TrafficSum } from '../model'
import { asOf } from '../moment'
import { DeployAct, HoldAct, RollbackAct, ScaleAct, SteerAct } from '../parts/acts'
import { Card, Pair } from '../parts/card'
import { Line } from '../parts/line'
import { Log } from '../parts/log'
import { Outgoing } from '../parts/outgoing'
import { ReleasesCard } from '../parts/releases'
import { RolloutCard } from '../parts/rollout'
import { Badge } from '../parts/signal'
import { useView } from '../store'

export function WorkloadPage() {
  const view = useView()
  const [query, setQuery] = useSearchParams()
  const { environment = '', name = '' } = useParams()
  const row = rowOf(view, environment, name)
  if (row === undefined) {
    return <><h1 className="text-xl font-semibold">There is no workload {environment}/{name}.</h1> <Link className="underline" to={`/${environment}`}>To the board</Link></>
  }
  const { workload, release, rollout } = row
  const { p95, failed } = row.served
  const { moves: way, acts, left_alone: left } = row.view
  const { held } = workload
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="text-xl font-semibold">{name}</h1>
        <Badge of={row.view.signal} word={workload.state} />
        <p className="min-w-0 grow text-soft">
          release {way !== null ? <>{way[0]} → <strong className="text-ink">{way[1]}</strong>, {rollout?.state === 'going-back' ? 'going back' : workload.rule.style}</> : <strong className="text-ink">{workload.release}</strong>}
          {release?.same_as != null && ` (same as ${release.same_as})`}, <span className="figures text-xs">{release?.spec.image}</span>
        </p>
        <div className="flex flex-wrap gap-2.5">
          <ScaleAct row={row} />
          {acts.includes('hold') && <HoldAct row={row} />}
          {held !== null && <SteerAct row={row} act="resume" tone="strong" />}
          {acts.includes('cancel') && <SteerAct row={row} act="cancel" tone="danger" />}
          {acts.includes('restart') && <SteerAct row={row} act="restart" />}
          {acts.includes('rollback') && <RollbackAct row={row} words="Roll back" />}
          <DeployAct row={row} />
        </div>
      </div>
      {held !== null && (
        <p role="status" className="mt-3 rounded-xl border border-line border-l-4 border-l-caution bg-card px-4 py-2.5">
          <Badge of="caution" word="held" /> {held.because} <span className="text-soft">{held.origin.by}, {moment(held.origin.at)}. Nothing automatic moves it until it is resumed.</span>
        </p>
      )}
      {left.map(({ source, what, origin }, place) => (
        <p key={`${source} ${what}`} role="status" className="mt-3 flex flex-wrap items-center gap-x-2 gap-y-1 rounded-xl border border-line border-l-4 border-l-caution bg-card px-4 py-2.5">
          <Badge of="caution" word="held" /> The source <Link className="underline" to={`/${environment}/-/sources`}>{source}</Link> leaves {what} alone: <span className="text-soft">{origin.act} by {origin.by}, {moment(origin.at)}. Everything else goes on following Git.</span>
          {place === 0 && held === null && <span className="ml-auto"><SteerAct row={row} act="resume" /></span>}
        </p>
      ))}
      {workload.reason && (
        <p role="status" className="mt-3 rounded-xl border border-line border-l-4 border-l-fault bg-card px-4 py-2.5">
          <strong className="font-semibold">{workload.reason.code}</strong> <span className="text-soft">{workload.reason.sentence}</span>
        </p>
      )}
      {row.view.growth !== undefined && <p className="mt-3 text-[13px] text-soft">{local(row.view.growth)}</p>}
      <Card className="mt-4" title={asOf === null ? 'What answers now' : 'What answered then'} aside={asOf === null && <span className="figures text-xs text-soft">{rate(row.served.rate)}{p95 !== null && ` · p95 ${millis(p95)}`} · {failed} failed</span>}>
        <Line row={row} />
        <p className="mt-1 text-[11px] text-faint">
          One cell, one replica: filled ready, dashed starting, half leaving, crossed failed.
          {row.replicas.some((replica) => !isolates(view, replica.node)) && <strong className="font-semibold text-caution"> They are {NOT_ISOLATED}: ordinary processes; only their memory limit holds.</strong>}
        </p>
      </Card>
      <div className="mt-4 grid gap-4 lg:grid-cols-[1.15fr_1fr]">
        <RolloutCard row={row} />
        <ReleasesCard row={row} />
      </div>
      <Card className="mt-4">
        <Tabs.Root value={query.get('tab') ?? 'log'} onValueChange={(tab) => setQuery((before) => { before.set('tab', tab); return before }, { replace: true })}>
          <div className="mb-3 flex flex-wrap gap-x-5 gap-y-1">
          <Tabs.List className="flex flex-wrap gap-x-5 gap-y-1" aria-label="More about the workload">
            {[['log', 'Log'], ['replicas', 'Replicas'], ['settings', 'Settings'], ['checks', 'Checks'], ['outgoing', 'Outgoing']].map(([value, word]) => (
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
          <Tabs.Content value="outgoing"><Outgoing key={key(workload.target)} target={workload.target} /></Tabs.Content>
        </Tabs.Root>
      </Card>
    </>
  )
}

function Replicas({ row }: { row: Row }) {
  const view = useView()
  return (
    <div className="max-h-72 overflow-auto" tabIndex={0} role="region" aria-label="Replicas">
      <table className="w-full text-left">
        <thead>
          <tr className="text-[13px] text-soft">
            {['Replica', 'State', 'Release', 'Node', 'Address', 'Requests', 'Failed', 'p50', 'p95', 'p99', 'Started', 'Restarts', 'Why'].map((word) => <th key={word} scope="col" className="py-1 pr-3 font-semibold">{word}</th>)}
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
              <Served sum={served(view.figures.replicas, replica.id)} />
              <td className="pr-3">{moment(replica.created)}</td>
              <td className="pr-3">{replica.restarts}</td>
              <td className="text-soft">{replica.changed && <ChangedLive change={replica.changed} />}{replica.reason?.sentence ?? (replica.state === 'fetching' && <OnItsWay replica={replica} digest={view.objects.release[`${key(row.workload.target)}@${replica.release}`]?.digest} />)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** Files of a running replica that are no longer those of its image. */
function ChangedLive({ change: { files, origin } }: { change: LiveChange }) {
  const what = files === 0 ? 'files may have been' : files === 1 ? '1 file was' : `${files} files were`
  return <span className="block text-caution">{what} changed live by {origin.by}</span>
}

/** How far the image of a replica is. */
function OnItsWay({ replica, digest }: { replica: Replica; digest?: string | null | undefined }) {
  const { data } = useQuery({ queryKey: ['fetches'], queryFn: fetches, enabled: asOf === null, refetchInterval: 1_000 })
  return data?.find((each) => each.node === replica.node && each.image === digest)?.says
}

/** What a replica answered in the last ten seconds. */
function Served({ sum }: { sum: TrafficSum }) {
  return (
    <>
      <td className="figures pr-3 text-xs">{rate(sum.rate)}</td>
      <td className={`figures pr-3 text-xs ${sum.failed > 0 ? 'font-semibold text-fault' : ''}`}>{sum.failed}</td>
      {[sum.p50, sum.p95, sum.p99].map((time, place) => (
        <td key={place} className="figures pr-3 text-xs whitespace-nowrap">{millis(time)}</td>
      ))}
    </>
  )
}

function Settings({ row }: { row: Row }) {
  const spec = row.release?.spec
  if (spec === undefined) return null
  const pairs = Object.entries(spec.settings)
  const files = Object.entries(spec.files ?? {})
  const of = (used: SecretUse) => `version ${used.version ?? row.release?.secrets?.[used.secret] ?? '?'} of the secret ${used.secret}`
  return (
    <dl>
      {pairs.length === 0 && <p className="text-faint">No setting is declared.</p>}
      {pairs.map(([name, value]) => <Pair key={name} name={name}>{typeof value === 'string' ? <span className="figures text-xs">{value}</span> : of(value)}</Pair>)}
      {files.map(([path, used]) => <Pair key={path} name={path}>a file: {of(used)}</Pair>)}
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
      <Pair name="Alive">{words(checks?.alive, 'while its process runs')}</Pair>
    </dl>
  )
}
