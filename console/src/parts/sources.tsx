import { useState } from 'react'

import { catchUp, holdSource, lookNow, resumeSource, writeBack } from '../api'
import { key } from '../view'
import type { Source } from '../model'
import { Act, field } from './acts'
import { Button } from './button'
import { useAsked } from '../asked'
import { Tick } from './tick'

const sign = { add: '+', change: '~', remove: '-' }

export function CatchUp({ source }: { source: Source }) {
  const [remove, setRemove] = useState(false)
  const commit = source.seen?.id.slice(0, 9) ?? ''
  return (
    <Act
      name="catch-up"
      trigger={<Button tone="strong">Catch up…</Button>}
      title={`Make ${source.target.environment} like ${commit}`}
      about="Each step must be steady before the next begins. If one fails, it is rolled back and the rest is not begun."
      command={`mainyard source catch-up ${key(source.target)}${remove ? ' --remove' : ''}`}
      act="Catch up"
      run={() => catchUp(source.target, remove, false)}
    >
      <Changes key={String(remove)} source={source} remove={remove} />
      {source.reason?.code === 'removal-asks' || source.gone_from_git !== 'keep' ? (
        <Tick words="Also remove what Git no longer declares" className="mt-3" on={remove} onChange={setRemove} />
      ) : null}
    </Act>
  )
}

function Changes({ source, remove }: { source: Source; remove: boolean }) {
  const { found, error } = useAsked(() => catchUp(source.target, remove, true))
  if (error !== '') return <p role="alert" className="mt-3 rounded-md bg-fault-wash px-3 py-2 text-fault">{error}</p>
  if (found === null) return <p className="mt-3 text-soft">Rehearsing it on a copy of the cluster…</p>
  if (found.changes.length === 0) return <p className="mt-3">Everything is as in this commit already.</p>
  return (
    <ul className="mt-3 rounded-lg border border-line px-3 py-2" aria-label="What changes">
      {found.changes.map((line) => (
        <li key={line.object} className="py-0.5"><span className="figures mr-2">{sign[line.kind]}</span><strong className="font-semibold">{line.object}</strong> {line.words}</li>
      ))}
    </ul>
  )
}

export function Hold({ source }: { source: Source }) {
  const [because, setBecause] = useState('')
  return (
    <Act
      name="hold-source"
      trigger={<Button>Hold…</Button>}
      title={`Hold ${source.target.name}`}
      about="It does nothing until it is resumed: no commit is taken, and nothing is restored."
      command={`mainyard source hold ${key(source.target)} --because "${because}"`}
      act="Hold it"
      disabled={because.trim() === ''}
      run={() => holdSource(source.target, because)}
    >
      <label className="mt-4 block font-medium">
        Because
        <input className={field} value={because} onChange={(event) => setBecause(event.target.value)} autoFocus />
      </label>
    </Act>
  )
}

export function Resume({ source }: { source: Source }) {
  return (
    <Act
      name="resume-source"
      trigger={<Button>Resume…</Button>}
      title={`Let ${source.target.name} follow Git again`}
      about="It controls again everything that it left alone."
      command={`mainyard source resume ${key(source.target)}`}
      act="Resume"
      run={() => resumeSource(source.target, false)}
    >
      <Follows source={source} />
    </Act>
  )
}

function Follows({ source }: { source: Source }) {
  const { found, error } = useAsked<string[]>(() => resumeSource(source.target, true))
  if (error !== '') return <p role="alert" className="mt-3 text-fault">{error}</p>
  return <ul className="mt-3 rounded-lg border border-line px-3 py-2" aria-label="What it does then">{(found ?? ['Looking…']).map((words) => <li key={words}>{words}</li>)}</ul>
}

export function WriteBack({ source }: { source: Source }) {
  return (
    <Act
      name="write-back"
      trigger={<Button>Write back…</Button>}
      title="The commit that would make Git agree"
      about="It is pushed as a branch of its own. After you merge it, the source leaves nothing alone any more."
      command={`mainyard source write-back ${key(source.target)} --push`}
      act="Push it as a branch"
      run={() => writeBack(source.target, true)}
    >
      <Difference source={source} />
    </Act>
  )
}

function Difference({ source }: { source: Source }) {
  const { found, error } = useAsked(() => writeBack(source.target, false))
  if (error !== '') return <p role="alert" className="mt-3 rounded-md bg-fault-wash px-3 py-2 text-fault">{error}</p>
  if (found === null) return <p className="mt-3 text-soft">Writing it…</p>
  if (found.commit === null) return <p className="mt-3">Git and the declared state agree; there is nothing to write.</p>
  return (
    <>
      {found.left.map((words) => <p key={words} className="mt-3 text-caution">{words}</p>)}
      <pre className="figures mt-3 max-h-72 overflow-auto rounded-lg border border-line p-3 text-xs" tabIndex={0}>
        {found.difference.split('\n').filter((line) => !/^(diff|index|---|\+\+\+) ?/.test(line)).map((line, index) => (
          <span key={index} className={`block ${line.startsWith('+') ? 'bg-good-wash text-good' : line.startsWith('-') ? 'bg-fault-wash text-fault' : ''}`}>{line === '' ? ' ' : line}</span>
        ))}
      </pre>
    </>
  )
}

export function Look({ source }: { source: Source }) {
  const [busy, setBusy] = useState(false)
  const look = () => {
    setBusy(true)
    // What came of it shows in the source itself.
    void lookNow(source.target).catch(() => undefined).finally(() => setBusy(false))
  }
  return <Button disabled={busy} onClick={look}>{busy ? 'Looking…' : 'Look now'}</Button>
}
