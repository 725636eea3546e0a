import { useEffect, useState } from 'react'

import { Refused, removeToken, signOut, tokens, type Credential } from '../api'
import { asOf } from '../moment'
import { Act } from '../parts/acts'
import { Button } from '../parts/button'
import { Command } from '../parts/command'
import { useView } from '../store'

/** Who is let in: tokens of clients and parts, and sessions of the console. */
export function AccessPage() {
  const view = useView()
  const [list, setList] = useState<Credential[] | null>(null)
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
      {list !== null && (
        <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Tokens and sessions">
          <table className="w-full text-left">
            <thead>
              <tr className="border-b border-line text-[13px] text-soft">
                {['Name', 'Lets in', 'Member', 'Ends', 'Last used', ''].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
              </tr>
            </thead>
            <tbody>
              {list.map((each) => <Entry key={each.id} credential={each} removed={read} />)}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}

const lets: Record<Credential['scope'], string> = { client: 'a client', part: 'a part of the platform', session: 'a browser' }

function day(moment: string | null, none: string): string {
  return moment === null ? none : new Date(moment).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
}

function Entry({ credential, removed }: { credential: Credential; removed: () => Promise<void> }) {
  const { id, name, scope, part, member, expires, last_used, current } = credential
  return (
    <tr className="border-b border-line/70 last:border-b-0">
      <th scope="row" className="px-3 py-2 font-medium">
        {name} <span className="figures text-xs font-normal text-soft">{id}</span>
        {current && <span className="ml-2 text-[13px] text-soft">this session</span>}
      </th>
      <td className="px-3">{part ?? lets[scope]}</td>
      <td className="px-3 text-soft">{member}</td>
      <td className="px-3 whitespace-nowrap text-soft">{day(expires, 'never')}</td>
      <td className="px-3 whitespace-nowrap text-soft">{day(last_used, 'not yet')}</td>
      <td className="px-3 py-1.5 text-right">
        {scope !== 'part' && !current && (
          <Act
            trigger={<Button tone="danger">Remove…</Button>}
            title={`Remove ${name}`}
            about={`${scope === 'session' ? 'The browser that has this session' : 'A client with this token'} is refused from then on. It cannot be put back; a new one can be made.`}
            command={scope === 'session' ? `mainyard sign-out ${id}` : `mainyard token remove ${id}`}
            act="Remove"
            run={() => removeToken(id).then(removed)}
          />
        )}
      </td>
    </tr>
  )
}
