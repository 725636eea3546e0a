import { Link, useParams } from 'react-router'

import { rowOf, short } from '../view'
import { Command } from '../parts/command'
import { Log } from '../parts/log'
import { useView } from '../store'

/** The whole log of a workload. */
export function LogPage() {
  const view = useView()
  const { environment = '', name = '' } = useParams()
  const row = rowOf(view, environment, name)
  if (row === undefined) {
    return <><h1 className="text-xl font-semibold">There is no workload {environment}/{name}.</h1> <Link className="underline" to={`/${environment}`}>To the board</Link></>
  }
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Log of <Link to={`/${environment}/${name}`} className="hover:underline">{name}</Link></h1>
        <Command words={`mainyard logs ${environment}/${name} --follow`} />
      </div>
      <Log key={`${environment}/${name}`} target={row.workload.target} replicas={row.replicas.map(short)} tall />
    </>
  )
}
