import * as Toast from '@radix-ui/react-toast'
import { createContext, useCallback, useContext, useState, type ReactNode } from 'react'

interface Notice {
  id: number
  words: string
}

const Say = createContext<(words: string) => void>(() => undefined)

/** Says in a corner what was just done. */
export const useNotice = () => useContext(Say)

/** Shows notices for some seconds each, the newest last. */
export function Notices({ children }: { children: ReactNode }) {
  const [notices, setNotices] = useState<Notice[]>([])
  const say = useCallback((words: string) => {
    setNotices((before) => [...before.slice(-2), { id: (before.at(-1)?.id ?? 0) + 1, words }])
  }, [])
  const forget = (id: number) => setNotices((before) => before.filter((each) => each.id !== id))
  return (
    <Say value={say}>
      <Toast.Provider duration={6000} label="Notice">
        {children}
        {notices.map((each) => (
          <Toast.Root
            key={each.id} onOpenChange={(open) => { if (!open) forget(each.id) }}
            className="flex items-start gap-3 rounded-lg border border-line bg-card px-4 py-3"
          >
            <Toast.Description className="min-w-0 wrap-anywhere">{each.words}</Toast.Description>
            <Toast.Close className="ml-auto shrink-0 text-[13px] font-semibold text-soft hover:text-ink">Close</Toast.Close>
          </Toast.Root>
        ))}
        <Toast.Viewport className="pointer-events-none fixed bottom-4 left-22 z-50 flex w-[min(22rem,92vw)] max-sm:left-4 *:pointer-events-auto flex-col gap-2" />
      </Toast.Provider>
    </Say>
  )
}
