import { useEffect, useRef, useState } from 'react'

import { logsPath } from '../api'
import type { LogLine, Target } from '../model'

const KEPT = 500

/** The last lines of all replicas, and what follows. */
export function Log({ target }: { target: Target }) {
  const [lines, setLines] = useState<LogLine[]>([])
  const [trouble, setTrouble] = useState('')
  const end = useRef<HTMLDivElement>(null)
  const { environment, name } = target

  useEffect(() => {
    const stop = new AbortController()
    const read = async () => {
      const answer = await fetch(logsPath({ environment, name }, 100), { signal: stop.signal })
      if (!answer.ok || answer.body === null) throw new Error(`the platform answers ${answer.status}`)
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader()
      let rest = ''
      for (;;) {
        const { value, done } = await reader.read()
        if (done) return
        const pieces = (rest + value).split('\n')
        rest = pieces.pop() ?? ''
        const more = pieces.filter((piece) => piece !== '').map((piece) => JSON.parse(piece) as LogLine)
        if (more.length > 0) setLines((before) => [...before, ...more].slice(-KEPT))
      }
    }
    read().catch((cause: unknown) => {
      if (!stop.signal.aborted) setTrouble(`The log cannot be read: ${cause instanceof Error ? cause.message : 'the stream broke'}.`)
    })
    return () => stop.abort()
  }, [environment, name])

  useEffect(() => {
    const box = end.current
    if (box) box.scrollTop = box.scrollHeight
  }, [lines])

  return (
    <div ref={end} className="figures h-56 overflow-auto text-xs leading-5" role="log" aria-label="log" tabIndex={0}>
      {trouble !== '' && <p className="text-fault">{trouble}</p>}
      {lines.length === 0 && trouble === '' && <p className="text-faint">No replica has written anything yet.</p>}
      {lines.map((line, index) => (
        <div key={index} className="whitespace-pre-wrap">
          <span className="text-faint">{new Date(line.at / 1000).toISOString().slice(11, 23)}</span>{' '}
          <span className="text-moving">{line.replica.slice(line.replica.lastIndexOf('/') + 1)}</span>{' '}
          <span className={line.source === 'e' ? 'text-caution' : line.source === 'k' ? 'text-faint' : ''}>{line.text}</span>
        </div>
      ))}
    </div>
  )
}
