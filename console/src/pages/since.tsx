import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'

import { Refused, since } from '../api'
import type { Became } from '../model'
import { moment } from '../view'
import { asOf, inWords } from '../moment'

const words = { add: 'came', change: 'changed', remove: 'went' }
const tones = { add: 'text-good', change: 'text-moving', remove: 'text-fault' }

/** What is not as it was at the moment that is shown. */
export function SincePage() {
  const { environment = '' } = useParams()
  const [found, setFound] = useState<Became[] | null>(null)
  const [trouble, setTrouble] = useState('')
  useEffect(() => {
    if (asOf === null) return
    since(asOf, environment).then(setFound, (cause: unknown) => setTrouble(cause instanceof Refused ? cause.message : 'The platform does not answer.'))
  }, [environment])
  if (asOf === null) return <p>Choose a moment above; the changes since then are listed here.</p>
  return (
    <>
      <h1 className="text-xl font-semibold">What changed in {environment} since {inWords(asOf)}</h1>
      {trouble !== '' && <p role="alert" className="mt-3 text-fault">{trouble}</p>}
      {found === null && trouble === '' && <p className="mt-3 text-soft">Comparing then and now…</p>}
      {found !== null && found.length === 0 && <p className="mt-3 rounded-xl border border-line bg-card p-6">Nothing has changed.</p>}
      {found !== null && found.length > 0 && (
        <ul className="mt-4 rounded-xl border border-line bg-card" aria-label="What changed">
          {found.map((one) => {
            const name = one.key.slice(one.key.indexOf('/') + 1)
            return (
              <li key={one.kind + one.key} className="border-b border-line/70 px-4 py-3 last:border-b-0">
                <p>
                  <span className={`mr-2 font-semibold ${tones[one.change]}`}>{words[one.change]}</span>
                  <span className="text-soft">{one.kind}</span>{' '}
                  {one.kind === 'workload' && one.change !== 'add' ? <Link className="font-semibold hover:underline" to={`/${one.key}`}>{name}</Link> : <strong className="font-semibold">{name}</strong>}
                  {one.origin !== undefined && <span className="text-soft"> {moment(one.origin.at)} {one.origin.act} by {one.origin.by}</span>}
                </p>
                {one.fields !== undefined && (
                  <dl className="mt-1 grid grid-cols-[max-content_1fr] gap-x-4 gap-y-0.5 text-[13px]">
                    {one.fields.map((field) => (
                      <div key={field.field} className="contents">
                        <dt className="text-soft">{field.field}</dt>
                        <dd className="figures text-xs">
                          {field.before !== null && <><span className="text-soft">{field.before}</span> → </>}
                          {field.after ?? 'nothing'}
                        </dd>
                      </div>
                    ))}
                  </dl>
                )}
              </li>
            )
          })}
        </ul>
      )}
    </>
  )
}
