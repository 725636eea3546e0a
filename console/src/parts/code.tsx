// Code that lives on the platform, and the way from no code to an open address.

import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import { code, makeCode, skeleton } from '../api'
import type { CodeView } from '../model'
import { useView } from '../store'
import { Act, field } from './acts'
import { Button } from './button'
import { Card } from './card'
import { ChoiceField } from './choice'
import { Command } from './command'
import { Nothing, Trouble } from './page'
import { Table, type Column } from './table'

/** Asked again so often: others push too. */
const EVERY = 3_000
const NAME = /^[a-z](-?[a-z0-9])*$/
const KINDS = [
  { value: 'python', words: 'Python: a small web service' },
  { value: 'nodejs', words: 'Node.js: a small web service' },
  { value: 'rust', words: 'Rust: a small web service' },
  { value: 'static-site', words: 'A static site' },
  { value: 'program', words: 'A program without a port' },
]

/** Repositories that are pushed to, and how the newest commit of each fares. */
export function Code({ environment }: { environment: string }) {
  const { data, error } = useQuery({ queryKey: ['code'], queryFn: code, refetchInterval: EVERY })
  const here = (data ?? []).filter((each) => each.target.environment === environment)
  return (
    <Card title="Code that lives here" className="mb-4" aside={<NewCode environment={environment} />}>
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && here.length === 0 && <Nothing>No code was pushed to {environment} yet. Begin with new code, or let a repository of yours push: <Command words={`mainyard code connect ${environment}/NAME`} /></Nothing>}
      {here.length > 0 && <p className="mb-3 text-soft">Clone one, change a line, and push: <Command words={`mainyard code clone ${environment}/${here[0]?.target.name ?? 'NAME'}`} /></p>}
      {here.length > 0 && <Table label={`Code in ${environment}`} columns={columns} rows={here} name={(each) => each.target.name} />}
    </Card>
  )
}

const columns: Column<CodeView>[] = [
  { head: 'Code', names: true, by: (each) => each.target.name, cell: (each) => each.target.name },
  { head: 'Newest commit', breaks: true, cell: (each) => <Newest view={each} /> },
  { head: 'State', breaks: true, by: (each) => each.delivery?.state ?? '', cell: (each) => <State view={each} /> },
  { head: 'Builds', cell: (each) => <Builds view={each} /> },
  { head: 'Reached at', breaks: true, cell: (each) => <Addresses view={each} /> },
]

function Newest({ view }: { view: CodeView }) {
  const newest = view.delivery
  if (newest == null) return <span className="text-soft">none yet</span>
  return <><span className="figures text-xs">{newest.commit.slice(0, 12)}</span> {newest.subject}</>
}

function State({ view }: { view: CodeView }) {
  const state = view.delivery?.state
  if (state === undefined) return null
  const tone = { building: 'text-moving', failed: 'text-fault', declared: '', built: '', replaced: 'text-soft' }[state]
  return <><span className={`font-medium ${tone}`}>{state}</span> <span className="whitespace-pre-line text-soft">{view.delivery?.says}</span></>
}

function Builds({ view }: { view: CodeView }) {
  const [, setQuery] = useSearchParams()
  const open = (number: number) => { setQuery((before) => { before.set('build', String(number)); return before }) }
  return (view.delivery?.builds ?? []).map((number) => <button key={number} type="button" className="figures mr-2 cursor-pointer hover:underline" onClick={() => { open(number) }}>{number}</button>)
}

/** The addresses of what a repository declares. */
function Addresses({ view }: { view: CodeView }) {
  return view.addresses.map((address) => <a key={address} className="block underline" href={address} target="_blank" rel="noreferrer">{address.replace('http://', '')}</a>)
}

/** From nothing to an open address: a kind, a name, the files to read, and a first commit that is built and rolled out. */
function NewCode({ environment }: { environment: string }) {
  const [like, setLike] = useState('static-site')
  const [name, setName] = useState('')
  const [shown, setShown] = useState(0)
  const client = useQueryClient()
  const named = NAME.test(name)
  const { data } = useQuery({ queryKey: ['skeleton', like, named ? name : 'name'], queryFn: () => skeleton(like, named ? name : 'name') })
  const domain = useView().objects.environment[environment]?.domain ?? `${environment}.localhost`
  const files = data?.files ?? []
  const file = files[shown] ?? files[0]
  const make = async () => {
    await makeCode({ environment, name }, like)
    void client.invalidateQueries({ queryKey: ['code'] })
    void client.invalidateQueries({ queryKey: ['builds'] })
    return []
  }
  return (
    <Act
      trigger={<Button>From code to an address</Button>} name="new-code" title={`New code in ${environment}`}
      about={`A repository with these files is made here, built and rolled out${like === 'program' ? '' : `; it opens at ${name || 'NAME'}.${domain}`}. Clone it then, and push what you change.`}
      command={`mainyard new ${name || 'NAME'} --like ${like} && mainyard send ${name || 'NAME'} --in ${environment}`} act="Make it" disabled={!named || data?.base_missing != null} run={make}
    >
      <ChoiceField words="Kind" name="kind" className="mt-4" value={like} onChange={(next) => { setLike(next); setShown(0) }} options={KINDS} />
      <label className="mt-3 block">Name<input required value={name} onChange={(event) => { setName(event.target.value) }} className={field} placeholder="survey" autoFocus /></label>
      {data?.base_missing != null && <p role="alert" className="mt-3 text-caution">The base of its recipe is not in the store. Make it on the platform’s machine: <Command words={data.base_missing} /></p>}
      <div className="mt-4 flex flex-wrap gap-1" role="group" aria-label="Files">
        {files.map((each, at) => <button key={each.path} type="button" aria-pressed={each.path === file?.path} className="figures cursor-pointer rounded-md border border-line px-2 py-1 text-xs aria-pressed:bg-ink aria-pressed:text-card" onClick={() => { setShown(at) }}>{each.path}</button>)}
      </div>
      {file !== undefined && <pre tabIndex={0} aria-label={file.path} className="figures mt-2 max-h-56 overflow-auto rounded-md border border-line bg-paper px-3 py-2 text-xs">{file.text}</pre>}
    </Act>
  )
}
