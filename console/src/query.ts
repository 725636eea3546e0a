import { useSearchParams } from 'react-router'

/** What is looked for stands in the address, so that a view can be sent to a colleague; an empty value leaves it. */
export function useQuery(): [URLSearchParams, (key: string, value: string) => void] {
  const [query, setQuery] = useSearchParams()
  const put = (key: string, value: string) =>
    setQuery((before) => {
      const next = new URLSearchParams(before)
      if (value === '') next.delete(key)
      else next.set(key, value)
      return next
    }, { replace: true })
  return [query, put]
}
