import { useQuery } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'

import { scale, usage } from '../api'
import { key } from '../view'
import type { Usage } from '../model'
import { Act } from '../parts/acts'
import { Button } from '../parts/button'
import { Nothing, PageHead, Trouble } from '../parts/page'
import { Badge } from '../parts/signal'
import { Table, type Column } from '../parts/table'

/** Measured again so often. */
const EVERY = 10_000

/** What replicas used in the last seven days, and which memory limit would fit. */
export function UsagePage() {
  const { environment = '' } = useParams()
  const { data, error } = useQuery({ queryKey: ['usage'], queryFn: usage, refetchInterval: EVERY })
  const own = (data ?? []).filter((each) => each.workload.environment === environment)
  return (
    <>
      <PageHead title={`Right size in ${environment}`} about="Memory and CPU that replicas used in the last seven days, and a memory limit that fits. Failed releases do not count." />
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && own.length === 0 && <Nothing>There is no workload here.</Nothing>}
      {own.length > 0 && <Table label="Right size" columns={columns} rows={own} name={(each) => key(each.workload)} />}
    </>
  )
}

const mebibytes = (bytes: number) => `${(bytes / 2 ** 20).toFixed(1)} MiB`
const latest = (each: Usage) => each.releases[0]

const columns: Column<Usage>[] = [
  { head: 'Workload', names: true, by: (each) => each.workload.name, cell: (each) => <Link className="hover:underline" to={`/${key(each.workload)}`}>{each.workload.name}</Link> },
  { head: 'Replicas', by: (each) => each.fit.replicas, cell: (each) => <span className="figures text-xs">{each.fit.replicas}</span> },
  { head: 'Needed', by: (each) => each.fit.needed, cell: (each) => <span className="figures text-xs">{each.fit.replicas === 0 ? '-' : mebibytes(each.fit.needed)}</span> },
  { head: 'Limit', cell: (each) => <span className="figures text-xs">{each.fit.limit}</span> },
  { head: 'Held back', cell: (each) => <span className="figures text-xs">{latest(each) === undefined ? '-' : `${(100 * (latest(each)?.held_back ?? 0)).toFixed(1)} %`}</span> },
  { head: 'Ended for memory', by: (each) => each.releases.reduce((sum, of) => sum + of.kills, 0), cell: (each) => <span className="figures text-xs">{each.releases.reduce((sum, of) => sum + of.kills, 0)}</span> },
  {
    head: 'Right size', breaks: true,
    cell: (each) => (each.fit.replicas === 0
      ? <span className="text-soft">{each.measured ? 'nothing was measured yet' : 'not measured: its replicas are ordinary processes'}</span>
      : <><Badge of={each.fit.ends + each.fit.may_end === 0 ? 'good' : 'caution'} word={each.fit.ends + each.fit.may_end === 0 ? 'fits' : 'too small'} /> <span className="text-soft">{each.words}</span></>),
  },
  { head: '', cell: (each) => <TakeAdvice of={each} /> },
]

/** Sets the limit that is advised, as another release. */
function TakeAdvice({ of }: { of: Usage }) {
  const { advised, limit } = of.fit
  if (advised === null || advised === limit) return null
  return (
    <Act
      trigger={<Button>Set {advised}…</Button>} title={`A memory limit of ${advised} for ${of.workload.name}`}
      about="Makes a new release with this limit and rolls it out as declared. Change the file too, or the next declaration undoes it."
      command={`mainyard scale ${key(of.workload)} --memory "${advised}"`} act={`Set ${advised}`}
      run={() => scale(of.workload, { memory: advised })} look={() => scale(of.workload, { memory: advised }, true)}
    />
  )
}
