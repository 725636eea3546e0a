import type { ReactNode } from 'react'

import { Refused } from '../api'

/** The head of a page: its name, what it is in a sentence, and what can be done. */
export function PageHead({ title, about, children }: { title: string; about: string; children?: ReactNode }) {
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-2">
      <h1 className="text-xl font-semibold">{title}</h1>
      <p className="min-w-0 grow text-soft">{about}</p>
      <div className="flex flex-wrap gap-2">{children}</div>
    </div>
  )
}

/** What is said in place of rows. */
export function Nothing({ children }: { children: ReactNode }) {
  return <div className="rounded-xl border border-line bg-card p-6">{children}</div>
}

/** Why something cannot be shown. */
export function Trouble({ cause }: { cause: Error }) {
  const words = cause instanceof Refused ? cause.message : 'The platform does not answer. Trying again.'
  return <p role="alert" className="mb-3 rounded-xl border border-line bg-card p-4 text-fault wrap-anywhere">{words}</p>
}
