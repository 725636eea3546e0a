import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState, useSyncExternalStore } from 'react'

import { useAwake } from '../awake'
import { Lines } from '../lines'
import type { LogLine, Target } from '../model'
import { asOf } from '../moment'
import { useQuery } from '../query'
import { Button } from './button'
import { Choice } from './choice'

const LINE = 20

/** The log of all replicas or of one: what was written, and what follows; search and place are in the address. */
export function Log(shown: Shown) {
  if (asOf !== null) return <p className="text-soft">Logs can't be shown as of a past moment. Go back to now to read them.</p>
  return <Live {...shown} />
}

interface Shown {
  target: Target
  replicas: string[]
  tall?: boolean
}

function Live({ target, replicas, tall = false }: Shown) {
  const { environment, name } = target
  const [query, put] = useQuery()
  const words = query.get('find') ?? ''
  const replica = query.get('replica') ?? ''
  const [following, setFollowing] = useState(true)
  const awake = useAwake()
  // Begun again when somebody looks again.
  const lines = useMemo(() => ({ awake, of: new Lines({ environment, name }, tall ? 100_000 : 500) }), [environment, name, tall, awake]).of
  const sight = useSyncExternalStore(lines.subscribe, lines.present)
  const box = useRef<HTMLDivElement>(null)

  useEffect(() => {
    if (awake) void lines.follow()
    return () => lines.end()
  }, [lines, awake])
  useEffect(() => lines.look(words, replica), [lines, words, replica])

  // The virtual list's functions change with every drawing, and nothing here is kept from one to the next.
  // eslint-disable-next-line react-hooks/incompatible-library
  const list = useVirtualizer({ count: sight.length, getScrollElement: () => box.current, estimateSize: () => LINE, overscan: 12 })
  useEffect(() => {
    if (following && sight.length > 0) list.scrollToIndex(sight.length - 1, { align: 'end' })
  }, [following, sight, list])

  const filtered = words !== '' || replica !== ''
  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <input
          type="search" aria-label="Find in the log" placeholder="Find in the log" value={words}
          onChange={(event) => put('find', event.target.value)}
          className="w-56 rounded-lg border border-line bg-card px-3 py-1.5 max-sm:w-full"
        />
        <Choice label="Of which replica" value={replica} onChange={(next) => put('replica', next)} options={[{ value: '', words: 'all replicas' }, ...replicas.map((each) => ({ value: each }))]} />
        <Button aria-pressed={following} onClick={() => setFollowing(!following)}>{following ? 'Following' : 'Follow'}</Button>
        <p className="figures ml-auto text-xs text-soft" role="status">
          {filtered ? `${count(sight.length)} of ${count(sight.total)} lines` : `${count(sight.total)} lines`}
          {sight.dropped > 0 && `, ${count(sight.dropped)} older ones not shown`}
        </p>
      </div>
      {sight.trouble !== '' && <p role="alert" className="mb-2 text-fault">{sight.trouble}</p>}
      <div
        ref={box} role="log" aria-label="log" aria-live="off" tabIndex={0}
        onWheel={(event) => event.deltaY < 0 && setFollowing(false)}
        onKeyDown={(event) => ['PageUp', 'ArrowUp', 'Home'].includes(event.key) && setFollowing(false)}
        className={`figures overflow-auto rounded-lg border border-line bg-card text-xs ${tall ? 'h-[calc(100vh-15rem)] min-h-72' : 'h-56'}`}
      >
        {sight.length === 0 && (
          <p className="p-3 font-sans text-soft">
            {!sight.read ? 'Reading…' : filtered ? 'No line matches.' : 'No replica has written anything yet.'}
          </p>
        )}
        <div className="relative w-max min-w-full" style={{ height: list.getTotalSize() }}>
          {list.getVirtualItems().map((item) => (
            <div key={item.key} className="absolute left-0 px-3 leading-5 whitespace-pre" style={{ top: 0, transform: `translateY(${item.start}px)` }}>
              <Text line={sight.at(item.index)} words={words} />
            </div>
          ))}
        </div>
      </div>
    </div>
  )
}

const count = (lines: number) => lines.toLocaleString('en-GB')

function Text({ line, words }: { line: LogLine; words: string }) {
  const at = words === '' ? -1 : line.text.toLowerCase().indexOf(words.toLowerCase())
  const tone = line.source === 'e' ? 'text-caution' : line.source === 'k' ? 'text-soft' : ''
  return (
    <>
      <span className="text-soft">{new Date(line.at / 1000).toISOString().slice(11, 23)}</span>{' '}
      <span className="text-moving">{line.replica.slice(line.replica.lastIndexOf('/') + 1)}</span>{' '}
      <span className={tone}>
        {at < 0 ? line.text : (
          <>{line.text.slice(0, at)}<mark className="bg-caution-wash text-ink">{line.text.slice(at, at + words.length)}</mark>{line.text.slice(at + words.length)}</>
        )}
      </span>
    </>
  )
}
