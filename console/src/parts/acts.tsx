import * as Dialog from '@radix-ui/react-dialog'
import type { ReactNode, SyntheticEvent } from 'react'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import { Refused, advance, cancel, deploy, hold, keep, restart, resume, rollback, scale } from '../api'
import { key, tag, type Row } from '../view'
import type { Done } from '../model'
import { asOf } from '../moment'
import { useView } from '../store'
import { Button } from './button'
import { Command } from './command'
import { Forecast } from './forecast'
import { ChoiceField } from './choice'
import { Hint } from './hint'
import { useNotice } from './notice'

interface Shell {
  trigger: ReactNode
  /** The word that opens it from the address: `?act=scale`. */
  name?: string
  title: string
  about: string
  command: string
  act: string
  disabled?: boolean
  run: () => Promise<unknown>
  /** Asks what it would do; the dialog offers it where it is given. */
  look?: () => Promise<Done>
  children?: ReactNode
}

/** A question before an act, with the client command that would do the same. */
export function Act(shell: Shell) {
  // Nothing can be done to the past.
  return asOf === null ? <Asked {...shell} /> : null
}

function Asked({ trigger, name, title, about, command, act, disabled, run, look, children }: Shell) {
  const [query, setQuery] = useSearchParams()
  const asked = name !== undefined && query.get('act') === name
  const [pressed, setPressed] = useState(false)
  const open = pressed || asked
  const setOpen = (next: boolean) => {
    setPressed(next)
    if (!next && asked) setQuery((before) => { before.delete('act'); return before }, { replace: true })
  }
  const say = useNotice()
  const [error, setError] = useState('')
  const [busy, setBusy] = useState(false)
  /** What was foretold, and for which command: another choice makes it old. */
  const [foretold, setForetold] = useState<{ of: string; done: Done } | null>(null)
  const attempt = async (what: () => Promise<void>) => {
    setBusy(true)
    setError('')
    try {
      await what()
    } catch (cause) {
      setError(cause instanceof Refused ? cause.message : 'The platform does not answer. Nothing was changed; try again.')
    } finally {
      setBusy(false)
    }
  }
  const submit = (event: SyntheticEvent) => {
    event.preventDefault()
    void attempt(async () => { await run(); setOpen(false); say(`${act}: accepted.`) })
  }
  return (
    <Dialog.Root open={open} onOpenChange={(next) => { setOpen(next); setError(''); setForetold(null) }}>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/30" />
        <Dialog.Content className="fixed top-[8vh] left-1/2 max-h-[86vh] w-[min(30rem,92vw)] -translate-x-1/2 overflow-y-auto rounded-xl border border-line bg-card p-5 pb-0">
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          <Dialog.Description className="mt-1 text-soft">{about}</Dialog.Description>
          <form onSubmit={submit}>
            {children}
            <p className="mt-4 mb-1 text-xs text-soft">The same as a command</p>
            <Command words={command} />
            {foretold !== null && foretold.of === command && <Forecast of={foretold.done} />}
            {error !== '' && <p role="alert" className="mt-3 rounded-md bg-fault-wash px-3 py-2 text-fault wrap-anywhere">{error}</p>}
            <div className="sticky bottom-0 -mx-5 mt-5 flex flex-wrap justify-end gap-2.5 border-t border-line bg-card px-5 py-3">
              {look !== undefined && (
                <Button disabled={busy || disabled === true} onClick={() => void attempt(async () => setForetold({ of: command, done: await look() }))}>Forecast</Button>
              )}
              <Dialog.Close asChild><Button>Leave it</Button></Dialog.Close>
              <Button tone="strong" type="submit" disabled={busy || disabled === true}>{act}</Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

export const field = 'mt-1 block w-full rounded-lg border border-line bg-card px-3 py-2'

export function ScaleAct({ row }: { row: Row }) {
  const target = row.workload.target
  const [count, setCount] = useState(String(row.workload.wanted))
  const number = Number(count)
  const valid = /^\d{1,5}$/.test(count) && number <= 10_000
  return (
    <Act
      name="scale"
      trigger={<Button>Scale {row.workload.wanted}</Button>}
      title={`Scale ${target.name} in ${target.environment}`}
      about={`${row.workload.wanted} wanted now. New replicas take requests as soon as they are ready; replicas that leave finish theirs.`}
      command={`mainyard scale ${key(target)} ${count}`}
      act={valid ? `Scale to ${number}` : 'Scale'}
      disabled={!valid}
      run={() => scale(target, { replicas: number })}
      look={() => scale(target, { replicas: number }, true)}
    >
      <label className="mt-4 block font-medium">
        Replicas
        <input className={`${field} figures`} inputMode="numeric" name="replicas" value={count} onChange={(event) => setCount(event.target.value)} autoFocus />
      </label>
      {!valid && <p className="mt-1 text-fault">A whole number from 0 to 10000.</p>}
    </Act>
  )
}

const manners = {
  rolling: 'One replica more, then one less, until all are new.',
  stepped: 'The new release gets its declared share of the requests, step by step.',
  swap: 'A whole new set starts beside the old one, then all requests go there at once.',
}

export function DeployAct({ row }: { row: Row }) {
  const view = useView()
  const target = row.workload.target
  const current = row.release?.spec.image ?? ''
  const repository = current.slice(0, current.lastIndexOf(':'))
  const images = Object.keys(view.objects.image).filter((name) => name.startsWith(`${repository}:`)).sort().reverse()
  // Nobody has chosen one yet.
  const [image, setImage] = useState('')
  return (
    <Act
      name="deploy"
      trigger={<Button tone="strong">Deploy…</Button>}
      title={`Deploy ${target.name} to ${target.environment}`}
      about={`Runs ${tag(current)} now. ${manners[row.workload.rule.style]} No request is lost${row.workload.rule.on_failure === 'go-back' ? ', and a release that fails is rolled back' : ''}.`}
      command={`mainyard deploy ${key(target)} --image ${image === '' ? 'IMAGE' : image}`}
      act={image === '' ? 'Deploy' : `Deploy ${tag(image)}`}
      disabled={image === current || image === ''}
      run={() => deploy(target, { image })}
      look={() => deploy(target, { image }, true)}
    >
      <ChoiceField
        words="Image" name="image" className="mt-4 font-medium" placeholder="Choose an image…" value={image} onChange={setImage}
        options={images.map((name) => ({ value: name, words: `${name}${name === current ? ' (runs now)' : ''}` }))}
      />
      <p className="mt-1 text-faint">To add another image: mainyard image add FILE</p>
    </Act>
  )
}

export function RollbackAct({ row, to, words }: { row: Row; to?: number; words: string }) {
  const target = row.workload.target
  return (
    <Act
      name={to === undefined ? 'rollback' : undefined}
      trigger={<Button tone={to === undefined ? 'danger' : 'plain'}>{words}</Button>}
      title={to === undefined ? `Roll ${target.name} back` : `Roll ${target.name} back to release ${to}`}
      about="Makes a new release with the image and settings of the earlier one, and rolls it out. Nothing is built."
      command={`mainyard rollback ${key(target)}${to === undefined ? '' : ` --to ${key(target)}@${to}`}`}
      act="Roll back"
      run={() => rollback(target, to)}
      look={() => rollback(target, to, true)}
    />
  )
}

export function HoldAct({ row }: { row: Row }) {
  const { target } = row.workload
  const [because, setBecause] = useState('')
  return (
    <Act
      name="hold"
      trigger={<Button>Hold…</Button>}
      title={`Hold ${target.name} in ${target.environment}`}
      about="It is not rolled out, scaled or restored automatically until someone resumes it; the number of replicas is kept."
      command={`mainyard hold ${key(target)} --because "${because}"`}
      act="Hold"
      disabled={because.trim() === ''}
      run={() => hold(target, because)}
      look={() => hold(target, because, true)}
    >
      <label className="mt-4 block font-medium">
        Because
        <input className={field} name="because" value={because} onChange={(event) => setBecause(event.target.value)} autoFocus />
      </label>
      <p className="mt-1 text-faint">Everyone who looks at the workload sees this.</p>
    </Act>
  )
}

const steering = {
  resume: { words: 'Resume', about: 'Ends the hold. A paused rollout continues, and its deadline starts again.', run: resume },
  advance: { words: 'Advance', about: 'The rollout continues: to its next step, or despite the findings against the release.', run: advance },
  cancel: { words: 'Cancel, go back', about: 'The previous release takes over again; its replicas that still run are kept.', run: cancel },
  restart: { words: 'Restart', about: 'New replicas of the same release replace those that run, in the declared order.', run: restart },
}

export function SteerAct({ row, act, tone }: { row: Row; act: keyof typeof steering; tone?: 'danger' | 'strong' }) {
  const { target } = row.workload
  const { words, about, run } = steering[act]
  return (
    <Act
      name={act}
      trigger={<Button tone={tone ?? 'plain'}>{words}</Button>}
      title={`${words}: ${target.name} in ${target.environment}`}
      about={about}
      command={`mainyard ${act} ${key(target)}`}
      act={words}
      run={() => run(target)}
      look={() => run(target, true)}
    />
  )
}

/** Keeping can be undone: it asks nothing. */
export function KeepAct({ row, release }: { row: Row; release: number }) {
  const kept = row.workload.kept?.[String(release)] !== undefined
  if (asOf !== null) return kept ? <span className="text-[13px] text-soft">kept</span> : null
  return (
    <Hint words={`mainyard keep ${key(row.workload.target)}@${release}${kept ? ' --no-longer' : ''}`}>
      <button
        type="button" aria-pressed={kept} className={`text-[13px] underline hover:text-ink ${kept ? 'font-semibold text-ink' : 'text-soft'}`}
        onClick={() => void keep(row.workload.target, release, !kept)}
      >
        {kept ? 'kept' : 'keep'}
      </button>
    </Hint>
  )
}
