import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { addRegistry, compareImages, pruneImages, pulls, registries, storage } from '../api'
import type { Attachment, ImageEntry, PullProgress, RegistryEntry, RepositoryStorage } from '../model'
import { asOf } from '../moment'
import { size } from '../view'
import { Act, field } from './acts'
import { Button } from './button'
import { Choice } from './choice'
import { Command } from './command'
import { Nothing, Trouble } from './page'
import { Badge } from './signal'
import { Table, type Column } from './table'

const WHOLE = /^\d{1,4}$/

/** Removes old images by rule; what would go is shown before. */
export function PruneAct() {
  const [keep, setKeep] = useState('10')
  const [days, setDays] = useState('30')
  const valid = WHOLE.test(keep) && WHOLE.test(days)
  return (
    <Act
      name="prune" trigger={<Button>Remove old images…</Button>} title="Remove old images"
      about="What runs, is kept, or may be gone back to stays."
      command={`mainyard image prune --keep ${keep} --older-than ${days}d`} act="Remove them" disabled={!valid}
      run={() => pruneImages(Number(keep), Number(days), false)}
    >
      <label className="mt-4 block font-medium">The newest that stay of each name<input className={`${field} figures`} inputMode="numeric" name="keep" value={keep} onChange={(event) => setKeep(event.target.value)} autoFocus /></label>
      <label className="mt-3 block font-medium">Days; younger images stay<input className={`${field} figures`} inputMode="numeric" name="days" value={days} onChange={(event) => setDays(event.target.value)} /></label>
      {valid ? <WouldGo keep={Number(keep)} days={Number(days)} /> : <p className="mt-1 text-fault">Whole numbers from 0 to 9999.</p>}
    </Act>
  )
}

function WouldGo({ keep, days }: { keep: number; days: number }) {
  const { data, error } = useQuery({ queryKey: ['prune', keep, days], queryFn: () => pruneImages(keep, days, true), placeholderData: (before) => before })
  if (error !== null) return <Trouble cause={error} />
  if (data === undefined) return null
  return (
    <div role="status" aria-label="Forecast" className="mt-3 rounded-lg border border-line px-3 py-2">
      {data.images.length === 0 ? <p>Nothing would go.</p> : <p>{data.images.length} of {data.images.length + data.stay} images would go; that frees {size(data.frees)}.</p>}
      {data.images.slice(0, 8).map((each) => <p key={each} className="figures mt-1 text-xs wrap-anywhere">{each}</p>)}
      {data.images.length > 8 && <p className="mt-1 text-xs text-soft">and {data.images.length - 8} more</p>}
    </div>
  )
}

/** What was pushed about an image; the packages of a bill of materials among it. */
export function Attached({ all }: { all: Attachment[] }) {
  if (all.length === 0) return null
  return (
    <section aria-label="Attached" className="mt-3">
      <h3 className="font-medium">Attached</h3>
      {all.map((each) => (
        <div key={each.digest} className="mt-1">
          <p className="figures text-xs wrap-anywhere">{each.kind} <span className="text-soft">{each.digest.slice(0, 19)}</span></p>
          {each.materials != null && (
            <details className="mt-1">
              <summary className="cursor-pointer text-soft">{each.materials.format}, {each.materials.packages.length} packages</summary>
              <ul className="figures mt-1 grid max-h-60 grid-cols-[repeat(auto-fill,minmax(14rem,1fr))] gap-x-4 overflow-y-auto text-xs" tabIndex={0}>
                {each.materials.packages.map((one) => <li key={`${one.name} ${one.version}`} className="wrap-anywhere">{one.name} <span className="text-soft">{one.version}</span></li>)}
              </ul>
            </details>
          )}
        </div>
      ))}
    </section>
  )
}

/** How an image differs from another one that is chosen. */
export function CompareWith({ image, all }: { image: string; all: ImageEntry[] }) {
  const [other, setOther] = useState('')
  const { data, error } = useQuery({ queryKey: ['compare images', image, other], queryFn: () => compareImages(image, other), enabled: other !== '' })
  const options = all.filter((each) => each.image !== image).map((each) => ({ value: each.image }))
  const bytes = (value?: number | null) => (value == null ? 'nothing' : size(value))
  return (
    <section aria-label="Compare" className="mt-3">
      <div className="flex flex-wrap items-center gap-2"><h3 className="font-medium">Compare with</h3><Choice label="Compare with" name="other" value={other} onChange={setOther} options={options} placeholder="another image" /></div>
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && (
        <div className="mt-1 text-xs">
          <p className="text-soft">{data.sums.added} files added, {data.sums.changed} changed, {data.sums.removed} removed; {size(data.sums.bytes)} are new in {other}</p>
          {data.run.map((each) => <p key={each.field} className="figures mt-1 wrap-anywhere">{each.field}: {each.before ?? 'nothing'} → {each.after ?? 'nothing'}</p>)}
          {data.files.slice(0, 20).map((each) => <p key={each.path} className="figures wrap-anywhere">{each.path}: {bytes(each.before)} → {bytes(each.after)}</p>)}
          {data.files.length > 20 && <p className="text-soft">and {data.files.length - 20} more files</p>}
        </div>
      )}
    </section>
  )
}

const kept: Column<RepositoryStorage>[] = [
  { head: 'Name', names: true, by: (each) => each.repository, cell: (each) => <span className="figures text-xs wrap-anywhere">{each.repository}</span> },
  { head: 'Images', by: (each) => each.images, cell: (each) => <span className="figures text-xs">{each.images}</span> },
  { head: 'Size', by: (each) => each.size, cell: (each) => <span className="figures text-xs">{size(each.size)}</span> },
  { head: 'Rule', breaks: true, cell: (each) => <span className="text-soft">{each.says}</span> },
]

/** What each name keeps, with its limit. */
export function Storage() {
  const { data, error } = useQuery({ queryKey: ['storage'], queryFn: storage, enabled: asOf === null, refetchInterval: 30_000 })
  if (error !== null) return <Trouble cause={error} />
  if (data === undefined || data.length === 0) return null
  return (
    <div className="mt-6">
      <h2 className="mb-2 font-semibold">What each name keeps</h2>
      <Table label="Storage" columns={kept} rows={data} name={(each) => each.repository} />
    </div>
  )
}

const outside: Column<RegistryEntry>[] = [
  { head: 'Registry', names: true, by: (each) => each.name, cell: (each) => each.name },
  { head: 'Host', breaks: true, cell: (each) => <span className="figures text-xs">{each.host}{each.plain ? ' without TLS' : ''}</span> },
  { head: 'User', cell: (each) => each.user ?? '-' },
  { head: 'Images', cell: (each) => <span className="figures text-xs">{each.images}</span> },
  { head: 'Problems', breaks: true, cell: (each) => (Object.keys(each.problems).length === 0 ? <span className="text-soft">none</span> : Object.entries(each.problems).map(([image, reason]) => `${image}: ${reason.sentence}`).join('; ')) },
]

const pulled: Column<PullProgress>[] = [
  { head: 'Image', names: true, breaks: true, by: (each) => each.image, cell: (each) => <span className="figures text-xs">{each.image}</span> },
  { head: 'State', cell: (each) => <Badge of={each.state === 'failed' ? 'fault' : each.state === 'done' ? 'good' : 'moving'} word={each.state} /> },
  { head: 'There', cell: (each) => <span className="figures text-xs">{size(each.fetched)} of {size(each.total)}</span> },
  { head: 'Why', breaks: true, cell: (each) => each.reason?.sentence ?? '' },
]

const NAME = /^[a-z](-?[a-z0-9])*$/

/** Adds a registry that images may be pulled from. */
function NewRegistry() {
  const [name, setName] = useState('')
  const [host, setHost] = useState('')
  const [user, setUser] = useState('')
  const [password, setPassword] = useState('')
  const body = { host, plain: false, ...(user === '' ? {} : { user, password }) }
  return (
    <Act
      name="add-registry" trigger={<Button>Add a registry</Button>} title="A registry outside"
      about="Images of it are pulled when they are needed. The password is sealed, and never shown."
      command={`mainyard registry add ${name || 'NAME'} --host ${host || 'HOST'}${user === '' ? '' : ` --user ${user} < password`}`}
      act="Add it" disabled={!NAME.test(name) || host === ''} run={() => addRegistry(name, body)} look={() => addRegistry(name, body, true)}
    >
      <label className="mt-4 block">Name<input required value={name} onChange={(event) => { setName(event.target.value) }} className={field} placeholder="forge" autoFocus /></label>
      <label className="mt-3 block">Host<input required value={host} onChange={(event) => { setHost(event.target.value) }} className={`${field} figures`} placeholder="registry.forge.example" /></label>
      <label className="mt-3 block">User<input value={user} onChange={(event) => { setUser(event.target.value) }} className={field} placeholder="none" autoComplete="off" /></label>
      <label className="mt-3 block">Password or token<input type="password" value={password} disabled={user === ''} onChange={(event) => { setPassword(event.target.value) }} className={field} autoComplete="new-password" /></label>
    </Act>
  )
}

/** Registries outside, and what is pulled from them. */
export function Outside() {
  const known = useQuery({ queryKey: ['registries'], queryFn: registries, enabled: asOf === null, refetchInterval: 30_000 })
  const moving = useQuery({ queryKey: ['pulls'], queryFn: pulls, enabled: asOf === null, refetchInterval: 2_000 })
  if (known.error !== null) return <Trouble cause={known.error} />
  if (known.data === undefined) return null
  return (
    <div className="mt-6">
      <div className="mb-2 flex flex-wrap items-center gap-3"><h2 className="grow font-semibold">Registries outside</h2><NewRegistry /></div>
      {known.data.length === 0
        ? <Nothing><p className="mb-2">Images can come from a registry that you have already. To add it:</p><Command words="mainyard registry add forge --host registry.forge.example" /></Nothing>
        : <Table label="Registries outside" columns={outside} rows={known.data} name={(each) => each.name} />}
      {(moving.data ?? []).length > 0 && <div className="mt-3"><Table label="Pulls" columns={pulled} rows={moving.data ?? []} name={(each) => each.image} /></div>}
    </div>
  )
}
