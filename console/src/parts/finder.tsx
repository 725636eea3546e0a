import * as Dialog from '@radix-ui/react-dialog'
import { useEffect, useId, useMemo, useState, type KeyboardEvent } from 'react'
import { useNavigate, useParams } from 'react-router'

import { environmentView } from '../view'
import { choose } from '../theme'
import { useView } from '../store'

interface Find {
  words: string
  note: string
  go: () => void
}

const SHOWN = 12

/** Finds anything and does anything, from anywhere: Ctrl K. */
export function Finder() {
  const [open, setOpen] = useState(false)
  useEffect(() => {
    const press = (event: globalThis.KeyboardEvent) => {
      if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey)) return
      event.preventDefault()
      setOpen((before) => !before)
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [])
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="rounded-lg border border-line px-3 py-1.5 text-[13px] text-soft hover:bg-paper">
        Find or do <kbd className="figures ml-1.5 text-xs">Ctrl K</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/30" />
        <Dialog.Content aria-describedby={undefined} className="fixed top-[12vh] left-1/2 w-[min(36rem,94vw)] -translate-x-1/2 overflow-hidden rounded-xl border border-line bg-card">
          <Dialog.Title className="sr-only">Find or do</Dialog.Title>
          <Found close={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function Found({ close }: { close: () => void }) {
  const view = useView()
  const navigate = useNavigate()
  const { environment } = useParams()
  const list = useId()
  const [words, setWords] = useState('')
  const [place, setPlace] = useState(0)
  const all = useMemo(() => {
    const to = (path: string) => () => void navigate(path)
    const finds: Find[] = []
    const workloads = Object.values(view.objects.workload).map((workload) => workload.target)
      .sort((a, b) => Number(b.environment === environment) - Number(a.environment === environment) || a.name.localeCompare(b.name))
    for (const { environment: where, name } of workloads) finds.push({ words: `${where}/${name}`, note: 'workload', go: to(`/${where}/${name}`) })
    for (const { environment: where, name } of workloads) {
      const acts = environmentView(view, where).workloads[name]?.acts ?? []
      const path = `/${where}/${name}`
      finds.push(
        { words: `scale ${where}/${name}`, note: 'act', go: to(`${path}?act=scale`) },
        { words: `deploy ${where}/${name}`, note: 'act', go: to(`${path}?act=deploy`) },
        ...acts.map((act) => ({ words: `${act} ${where}/${name}`, note: 'act', go: to(`${path}?act=${act}`) })),
        { words: `compare ${where}/${name}`, note: 'page', go: to(`${path}/compare`) },
        { words: `logs ${where}/${name}`, note: 'log', go: to(`${path}/log`) },
        { words: `trail ${where}/${name}`, note: 'trail', go: to(`/${where}/-/trail?of=${path.slice(1)}`) },
      )
    }
    for (const name of Object.keys(view.objects.environment)) {
      finds.push({ words: `board ${name}`, note: 'page', go: to(`/${name}`) }, { words: `trail ${name}`, note: 'page', go: to(`/${name}/-/trail`) })
    }
    finds.push({ words: 'routes and services', note: 'page', go: to(`/${environment ?? 'staging'}/-/routes`) })
    finds.push({ words: 'sources', note: 'page', go: to(`/${environment ?? 'staging'}/-/sources`) })
    finds.push({ words: 'images', note: 'page', go: to(`/${environment ?? 'staging'}/-/images`) })
    for (const theme of ['light', 'dark', 'system'] as const) finds.push({ words: `theme ${theme}`, note: 'look', go: () => choose(theme) })
    return finds
  }, [view, environment, navigate])
  const parts = words.toLowerCase().split(/\s+/).filter((part) => part !== '')
  const found: Find[] = []
  for (const find of all) {
    if (parts.every((part) => find.words.toLowerCase().includes(part))) found.push(find)
    if (found.length === SHOWN) break
  }
  const chosen = Math.min(place, found.length - 1)
  const take = (find: Find | undefined) => {
    if (find === undefined) return
    close()
    find.go()
  }
  const press = (event: KeyboardEvent) => {
    if (event.key === 'ArrowDown') setPlace(Math.min(chosen + 1, found.length - 1))
    else if (event.key === 'ArrowUp') setPlace(Math.max(chosen - 1, 0))
    else if (event.key === 'Enter') take(found[chosen])
    else return
    event.preventDefault()
  }
  return (
    <>
      <input
        autoFocus role="combobox" aria-label="Find or do" aria-expanded aria-controls={list} aria-activedescendant={`${list}-${chosen}`}
        placeholder="A workload, a page, scale, deploy, rollback, logs, theme…" value={words}
        onChange={(event) => { setWords(event.target.value); setPlace(0) }} onKeyDown={press}
        className="w-full border-b border-line bg-card px-4 py-3"
      />
      <ul id={list} role="listbox" aria-label="Found" className="max-h-[50vh] overflow-auto py-1.5">
        {found.map((find, index) => (
          <li
            key={find.words + find.note} id={`${list}-${index}`} role="option" aria-selected={index === chosen}
            onClick={() => take(find)} onMouseMove={() => setPlace(index)}
            className={`flex cursor-pointer justify-between px-4 py-2 ${index === chosen ? 'bg-moving-wash' : ''}`}
          >
            <span>{find.words}</span><span className="text-soft">{find.note}</span>
          </li>
        ))}
        {found.length === 0 && <li role="option" aria-selected={false} className="px-4 py-2 text-soft">Nothing matches.</li>}
      </ul>
    </>
  )
}
