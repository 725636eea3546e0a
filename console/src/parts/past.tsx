// Any moment: choosing one, and the mark over everything that is of the past.

import * as Dialog from '@radix-ui/react-dialog'
import { useState, type SyntheticEvent } from 'react'
import { Link, useLocation, useParams } from 'react-router'

import { asOf, forField, inWords, then } from '../moment'
import { useView } from '../store'
import { field } from './acts'
import { Button } from './button'
import { Command } from './command'

/** Asks for a moment, and shows the same page as it was then. */
export function AnyMoment() {
  const { pathname } = useLocation()
  const { environment = '' } = useParams()
  const [at, setAt] = useState(() => forField(asOf === null ? new Date(Date.now() - 5 * 60_000) : new Date(asOf)))
  const [toCome, setToCome] = useState(false)
  const chosen = new Date(at)
  const valid = !Number.isNaN(chosen.getTime()) && !toCome
  const choose = (text: string) => {
    setAt(text)
    setToCome(Date.parse(text) > Date.now())
  }
  const submit = (event: SyntheticEvent) => {
    event.preventDefault()
    if (valid) location.assign(then(chosen.toISOString(), pathname))
  }
  return (
    <Dialog.Root>
      <Dialog.Trigger className="rounded-lg border border-line px-3 py-1.5 text-[13px] text-soft hover:bg-paper">Any moment</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/30" />
        <Dialog.Content className="fixed top-[12vh] left-1/2 w-[min(30rem,92vw)] -translate-x-1/2 rounded-xl border border-line bg-card p-5">
          <Dialog.Title className="text-lg font-semibold">Everything as it was</Dialog.Title>
          <Dialog.Description className="mt-1 text-soft">The whole console shows that moment until you come back to now. Nothing can be changed in the past.</Dialog.Description>
          <form onSubmit={submit}>
            <label className="mt-4 block font-medium">
              When
              <input type="datetime-local" step="1" className={`${field} figures`} value={at} onChange={(event) => choose(event.target.value)} autoFocus />
            </label>
            <div className="mt-2 flex flex-wrap gap-2">
              {[5, 30, 120].map((minutes) => (
                <Button key={minutes} onClick={() => choose(forField(new Date(Date.now() - minutes * 60_000)))}>{minutes < 60 ? `${minutes} min ago` : `${minutes / 60} hours ago`}</Button>
              ))}
            </div>
            {!valid && <p role="alert" className="mt-2 text-fault">A moment that has passed.</p>}
            <p className="mt-4 mb-1 text-xs text-soft">The same as a command</p>
            <Command words={`mainyard board ${environment} --as-of "${at.replace('T', ' ')}"`} />
            <div className="mt-5 flex justify-end gap-2.5">
              <Dialog.Close asChild><Button>Leave it</Button></Dialog.Close>
              <Button tone="strong" type="submit" disabled={!valid}>See it</Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/** Says that nothing here is of now, and leads back. */
export function PastMark() {
  const view = useView()
  const { pathname } = useLocation()
  const { environment = '' } = useParams()
  if (asOf === null) return null
  return (
    <div role="status" data-testid="past" className="sticky top-0 flex flex-wrap items-center gap-x-4 gap-y-1 border-b-2 border-caution bg-caution-wash px-6 py-2 text-caution">
      <p>
        <span aria-hidden>▲ </span>
        <strong className="font-semibold">As it was on {inWords(asOf)}</strong>, not as it is now. {view.whole ? 'Traffic of that time is not kept.' : 'Replicas and traffic of that time are no longer kept.'}
      </p>
      <span className="ml-auto flex gap-4 font-semibold">
        <Link className="underline" to={`/${environment}/-/since`}>What changed since</Link>
        {/* A new page: it is live again. */}
        <a className="underline" href={pathname.endsWith('/-/since') ? `/${environment}` : pathname}>Back to now</a>
      </span>
    </div>
  )
}
