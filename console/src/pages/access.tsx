import { useEffect, useState } from 'react'

import { Refused, removeToken, signOut, tokens } from '../api'
import type { TokenEntry } from '../model'
import { asOf } from '../moment'
import { Act } from '../parts/acts'
import { Button } from '../parts/button'
import { Command } from '../parts/command'
import { Table, type Column } from '../parts/table'
import { useView } from '../store'

/** Who is let in: tokens of clients and parts, and sessions of the console. */
export function AccessPage() {
  const view = useView()
  const [list, setList] = useState<TokenEntry[] | null>(null)
  const [failed, setFailed] = useState('')
  const read = () => tokens().then(setList, (cause: unknown) => { setFailed(cause instanceof Refused ? cause.message : 'The platform does not answer.') })
  useEffect(() => { void read() }, [])
  const leave = () => signOut().then(() => { window.location.assign('/') })
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Access</h1>
        <p className="text-soft">You are signed in as {view.member}.</p>
        {asOf === null && <Button className="ml-auto" onClick={() => { void leave() }}>Sign out</Button>}
      </div>
      <p className="mb-3 max-w-prose text-soft">
        Clients, programs and parts of the platform use tokens; a browser uses a session. Their secret values are never shown. Removing one ends its access at once.
      </p>
      <div className="mb-3 flex flex-wrap gap-2">
        <Command words="mainyard token add NAME --lasts 30d" />
        <Command words="mainyard sign-out --all" />
      </div>
      {failed !== '' && <p role="alert" className="rounded-xl border border-line bg-card p-6 text-fault">{failed}</p>}
      {list !== null && <Table label="Tokens and sessions" columns={columns(read)} rows={list} name={(each) => each.id} />}
    </>
  )
}

const lets: Record<TokenEntry['scope'], string> = { client: 'a client', part: 'a part of the platform', 'sign-in': 'anyone who has the link', session: 'a browser' }

function day(moment: string | null, none: string): string {
  return moment === null ? none : new Date(moment).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
}

const columns = (removed: () => Promise<void>): Column<TokenEntry>[] => [
  {
    head: 'Name', names: true, breaks: true, by: (each) => each.name,
    cell: (each) => <>{each.name} <span className="figures text-xs font-normal text-soft">{each.id}</span>{each.current && <span className="ml-2 text-[13px] text-soft">this session</span>}</>,
  },
  { head: 'Lets in', by: (each) => each.part ?? each.scope, cell: (each) => each.part ?? lets[each.scope] },
  { head: 'Member', by: (each) => each.member, cell: (each) => <span className="text-soft">{each.member}</span> },
  { head: 'Ends', by: (each) => each.expires ?? '', cell: (each) => <span className="text-soft">{day(each.expires, 'never')}</span> },
  { head: 'Last used', by: (each) => each.last_used ?? '', cell: (each) => <span className="text-soft">{day(each.last_used, 'not yet')}</span> },
  { head: '', cell: (each) => (each.scope === 'part' || each.current ? null : <RemoveToken of={each} removed={removed} />) },
]

function RemoveToken({ of: { id, name, scope }, removed }: { of: TokenEntry; removed: () => Promise<void> }) {
  return (
    <Act
      trigger={<Button tone="danger">Remove…</Button>}
      title={`Remove ${name}`}
      about={`${scope === 'session' ? 'The browser that has this session' : 'A client with this token'} is refused from then on. It can't be restored; you can make a new one.`}
      command={scope === 'session' ? `mainyard sign-out ${id}` : `mainyard token remove ${id}`}
      act="Remove"
      run={() => removeToken(id).then(removed)}
    />
  )
}
