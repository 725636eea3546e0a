import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'

import { Refused, compare } from '../api'
import { key } from '../view'
import type { Difference } from '../model'
import { Command } from '../parts/command'
import { useQuery } from '../query'
import { useView } from '../store'
import { Choice } from '../parts/choice'

/** What differs between two releases of a workload, field by field. */
export function ComparePage() {
  const view = useView()
  const { environment = '', name = '' } = useParams()
  const [query, put] = useQuery()
  const target = `${environment}/${name}`
  const numbers = Object.values(view.objects.release).filter((release) => key(release.workload) === target).map((release) => release.number).sort((a, b) => b - a)
  const from = query.get('from') ?? String(numbers[1] ?? '')
  const to = query.get('to') ?? String(numbers[0] ?? '')
  const [found, setFound] = useState<{ of: string; list: Difference[] } | null>(null)
  const [trouble, setTrouble] = useState('')
  const pair = `${target}@${from} ${target}@${to}`

  useEffect(() => {
    let wanted = true
    const [one = '', other = ''] = pair.split(' ')
    compare(one, other).then(
      (list) => { if (wanted) { setFound({ of: pair, list }); setTrouble('') } },
      (cause: unknown) => { if (wanted) setTrouble(cause instanceof Refused ? cause.message : 'The platform does not answer; try again.') },
    )
    return () => { wanted = false }
  }, [pair])

  const list = found?.of === pair ? found.list : null
  const choice = (which: 'from' | 'to', value: string) => (
    <span className="flex items-center gap-2 text-soft">
      {which === 'from' ? 'release' : 'with'}
      <Choice label={which === 'from' ? 'Release' : 'With release'} name={which} className="figures py-1 text-ink" value={value} onChange={(next) => put(which, next)} options={numbers.map((number) => ({ value: String(number) }))} />
    </span>
  )
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Compare <Link className="hover:underline" to={`/${target}`}>{name}</Link></h1>
        {choice('from', from)}
        {choice('to', to)}
        <Command words={`mainyard compare ${target}@${from} ${target}@${to}`} />
      </div>
      <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Differences">
        {trouble !== '' ? <p role="alert" className="p-5 text-fault">{trouble}</p>
          : list === null ? <p className="p-5 text-soft">Comparing…</p>
          : list.length === 0 ? <p className="p-5">Both are the same, down to the image's digest.</p>
          : (
            <table className="w-full text-left">
              <thead>
                <tr className="border-b border-line text-[13px] text-soft">
                  {['Field', `Release ${from}`, `Release ${to}`].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
                </tr>
              </thead>
              <tbody>
                {list.map(({ field, before, after }) => (
                  <tr key={field} className="border-b border-line/70 last:border-b-0">
                    <th scope="row" className="px-3 py-2 font-medium whitespace-nowrap">{field}</th>
                    <td className="figures px-3 py-2 text-xs break-all">{before ?? <span className="text-faint">not there</span>}</td>
                    <td className="figures px-3 py-2 text-xs break-all">{after ?? <span className="text-faint">not there</span>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
      </div>
    </>
  )
}
