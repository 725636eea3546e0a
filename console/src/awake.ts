// Whether anybody may be looking. A browser opens only a few connections to one place, for all of its tabs together: a
// page that is out of sight gives its streams up, so that those in sight can still ask and act.

import { useSyncExternalStore } from 'react'

/** Anyone who comes back to a tab soon finds it as it was. */
const REST_AFTER = 30_000

let awake = true
let resting: ReturnType<typeof setTimeout> | undefined
const listeners = new Set<() => void>()

function set(next: boolean) {
  clearTimeout(resting)
  if (awake === next) return
  awake = next
  listeners.forEach((listener) => listener())
}

document.addEventListener('visibilitychange', () => {
  clearTimeout(resting)
  if (document.hidden) resting = setTimeout(() => set(false), REST_AFTER)
  else set(true)
})
// A page that was left may be kept for the way back.
window.addEventListener('pagehide', () => set(false))
window.addEventListener('pageshow', () => set(!document.hidden))

export const isAwake = () => awake

export function onAwake(listener: () => void) {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

export const useAwake = () => useSyncExternalStore(onAwake, isAwake)
