import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useParams } from 'react-router'

import { addSecret, removeSecret, secrets } from '../api'
import { moment } from '../view'
import type { SecretEntry } from '../model'
import { Act, field } from '../parts/acts'
import { Button } from '../parts/button'
import { Command } from '../parts/command'
import { Nothing, PageHead, Trouble } from '../parts/page'
import { Table, type Column } from '../parts/table'
import { useView } from '../store'

/** Secrets of an environment. A value goes in and never comes out. */
export function SecretsPage() {
  const view = useView()
  const { environment = '' } = useParams()
  const { data, error } = useQuery({ queryKey: ['secrets', view.lastAct], queryFn: secrets, placeholderData: (before) => before })
  const own = (data ?? []).filter((entry) => entry.secret.startsWith(`${environment}/`))
  return (
    <>
      <PageHead title={`Secrets of ${environment}`} about="Values are never shown again. A new version makes a release of each workload that uses the newest one.">
        <AddSecret environment={environment} />
      </PageHead>
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && own.length === 0 && <Nothing><p className="mb-2">There is no secret here. Add the first one above, or with:</p><Command words={`mainyard secret add ${environment}/NAME < FILE`} /></Nothing>}
      {own.length > 0 && <Table label="Secrets" columns={columns} rows={own} name={(entry) => entry.secret} />}
    </>
  )
}

const nameOf = (entry: SecretEntry) => entry.secret.slice(entry.secret.indexOf('/') + 1)
const target = (entry: SecretEntry) => ({ environment: entry.secret.slice(0, entry.secret.indexOf('/')), name: nameOf(entry) })
const newest = (entry: SecretEntry) => Math.max(...Object.keys(entry.versions).map(Number))

const columns: Column<SecretEntry>[] = [
  { head: 'Secret', names: true, by: nameOf, cell: nameOf },
  { head: 'Version', by: newest, cell: (entry) => <span className="figures text-xs">{newest(entry)}</span> },
  { head: 'Kind', cell: (entry) => (entry.versions[newest(entry)]?.text === true ? 'text' : 'bytes, for a file') },
  {
    head: 'Changed', by: (entry) => entry.versions[newest(entry)]?.origin.at ?? '',
    cell: (entry) => {
      const origin = entry.versions[newest(entry)]?.origin
      return origin === undefined ? '-' : <span className="text-soft">{moment(origin.at)} by {origin.by}</span>
    },
  },
  {
    head: 'Used by', breaks: true,
    cell: (entry) => (entry.used_by.length === 0
      ? <span className="text-soft">nothing</span>
      : entry.used_by.map((user, place) => <span key={user}>{place > 0 && ', '}<Link className="hover:underline" to={`/${user}`}>{user.slice(user.indexOf('/') + 1)}</Link></span>)),
  },
  {
    head: '',
    cell: (entry) => (
      <span className="flex justify-end gap-2">
        <AddSecret environment={target(entry).environment} known={nameOf(entry)} />
        <Act
          trigger={<Button tone="danger">Remove…</Button>} title={`Remove the secret ${nameOf(entry)}`}
          about={entry.used_by.length === 0 ? 'All its versions are removed. Releases that use it can no longer be rolled back to.' : `${entry.used_by.join(', ')} use it. It can be removed when nothing uses it.`}
          command={`mainyard secret remove ${entry.secret}`} act="Remove" run={() => removeSecret(target(entry))}
        />
      </span>
    ),
  },
]

const NAME = /^[a-z](-?[a-z0-9])*$/

/** A new secret, or a new version of one. */
function AddSecret({ environment, known }: { environment: string; known?: string }) {
  const [name, setName] = useState(known ?? '')
  const [value, setValue] = useState('')
  return (
    <Act
      trigger={<Button tone={known === undefined ? 'strong' : 'plain'}>{known === undefined ? 'Add a secret…' : 'New version…'}</Button>}
      name={known === undefined ? 'add-secret' : undefined}
      title={known === undefined ? `A new secret in ${environment}` : `A new version of ${known}`}
      about="The value is encrypted before it is stored, and never shown."
      command={`mainyard secret add ${environment}/${name === '' ? 'NAME' : name} < FILE`}
      act="Add it" disabled={!NAME.test(name) || value === ''}
      run={() => addSecret({ environment, name }, value).then(() => { setValue('') })}
    >
      {known === undefined && <label className="mt-4 block font-medium">Name<input className={field} name="name" value={name} onChange={(event) => setName(event.target.value)} placeholder="db-password" autoFocus /></label>}
      <label className="mt-3 block font-medium">Value<textarea className={`${field} figures`} name="value" rows={3} autoComplete="off" spellCheck={false} value={value} onChange={(event) => setValue(event.target.value)} /></label>
    </Act>
  )
}
