// A workload's releases: what became of each, comparing with the present one, keeping, going back.

import { Link } from 'react-router'

import { key, moment, tag, type Row } from '../view'
import { useView } from '../store'
import { KeepAct, RollbackAct } from './acts'
import { Card } from './card'
import { Badge } from './signal'
import { Hint } from './hint'

export function ReleasesCard({ row }: { row: Row }) {
  const view = useView()
  const target = key(row.workload.target)
  const { releases: list, releases_in_all: all } = row.view
  const now = row.workload.release
  return (
    <Card title="Releases" aside={all > list.length && <span className="text-xs text-soft">the newest {list.length} of {all}</span>}>
      <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The releases, one a row">
        <table className="w-full text-left">
          <tbody>
            {list.map(({ release: number, state, signal, wanted, can_go_back }) => {
              const release = view.objects.release[`${target}@${number}`]
              if (release === undefined) return null
              const rollout = view.objects.rollout[`${target}@${number}`]
              return (
                <tr key={release.number} className="border-b border-line/70 last:border-b-0">
                  <th scope="row" className="py-2 pr-2 font-semibold whitespace-nowrap">
                    {release.number}{release.same_as !== null && <span className="font-normal text-soft"> (same as {release.same_as})</span>}
                    {wanted && <span className="font-normal text-soft"> now</span>}
                  </th>
                  <td className="pr-2"><Hint words={rollout?.verdict}><span tabIndex={rollout?.verdict === undefined || rollout.verdict === null ? undefined : 0}><Badge of={signal} word={state} /></span></Hint></td>
                  <td className="figures pr-2 text-xs"><Link className="hover:underline" to={`/${release.workload.environment}/-/images?image=${encodeURIComponent(release.spec.image)}`}>{tag(release.spec.image)}</Link></td>
                  <td className="pr-2">{moment(release.origin.at)} <span className="text-soft">{release.origin.by}{release.origin.commit !== undefined && <> from <Link className="figures text-xs hover:underline" to={`/${release.workload.environment}/-/sources?commit=${release.origin.commit}`}>{release.origin.commit.slice(0, 9)}</Link></>}</span></td>
                  <td className="py-1.5 text-right whitespace-nowrap">
                    <span className="inline-flex items-center gap-2.5">
                      <KeepAct row={row} release={release.number} />
                      {!wanted && <Link className="text-[13px] text-soft underline hover:text-ink" to={`/${target}/compare?from=${release.number}&to=${now}`}>compare</Link>}
                      {can_go_back && <RollbackAct row={row} to={release.number} words="Roll back" />}
                    </span>
                  </td>
                </tr>
              )
            })}
          </tbody>
        </table>
      </div>
    </Card>
  )
}
