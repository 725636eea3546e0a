import { useEffect, useState } from 'react'

import { Refused } from './api'

/** What comes of asking the platform when a dialog opens. */
export function useAsked<T>(ask: () => Promise<T>): { found: T | null; error: string } {
  const [found, setFound] = useState<T | null>(null)
  const [error, setError] = useState('')
  useEffect(() => {
    let wanted = true
    ask().then(
      (answer) => { if (wanted) setFound(answer) },
      (cause: unknown) => { if (wanted) setError(cause instanceof Refused ? cause.message : 'The platform does not answer.') },
    )
    return () => { wanted = false }
    // Asked once, when the dialog opens.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [])
  return { found, error }
}
