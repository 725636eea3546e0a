import { useState } from 'react'

/** The client command that does the same, to copy. */
export function Command({ words }: { words: string }) {
  const [copied, setCopied] = useState(false)
  const copy = () => {
    void navigator.clipboard.writeText(words).then(() => {
      setCopied(true)
      setTimeout(() => setCopied(false), 1500)
    })
  }
  return (
    <span className="inline-flex max-w-full items-center gap-2 rounded-md border border-line bg-paper px-2.5 py-1 text-xs">
      <code className="figures min-w-0 break-all">{words}</code>
      <button type="button" onClick={copy} className="shrink-0 font-semibold text-soft hover:text-ink" aria-label={`Copy ${words}`}>{copied ? 'copied' : 'copy'}</button>
    </span>
  )
}
