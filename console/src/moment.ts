// The moment that the console shows: now, or one of the past, which then stands at the front of every address.

const found = /^\/as-of\/([^/]+)(?=\/|$)/.exec(location.pathname)
const given = found === null ? '' : decodeURIComponent(found[1] ?? '')

/** The moment of the past that is shown (RFC 3339); null while the console shows what is. It is the same for as long as the page lives. */
export const asOf: string | null = Number.isNaN(Date.parse(given)) ? null : new Date(given).toISOString()

/** What every address of this view begins with. */
export const base = asOf === null || found === null ? '' : found[0]

/** The address of a path of the console as things were at a moment. */
export const then = (at: string, path: string) => `/as-of/${new Date(at).toISOString()}${path}`

/** In words, to the second. */
export const inWords = (at: string) =>
  new Date(at).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit', timeZoneName: 'short' })

/** As a field for a local time takes it. */
export function forField(at: Date): string {
  const local = new Date(at.getTime() - at.getTimezoneOffset() * 60_000)
  return local.toISOString().slice(0, 19)
}
