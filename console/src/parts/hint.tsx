import * as Tooltip from '@radix-ui/react-tooltip'
import type { ReactElement } from 'react'

export const HintProvider = Tooltip.Provider

/** More words about what is shown, for a pointer that rests there and for the keyboard. The child takes the focus. */
export function Hint({ words, children }: { words: string | null | undefined; children: ReactElement }) {
  if (words === null || words === undefined || words === '') return children
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={6} collisionPadding={8} className="z-40 max-w-sm rounded-md bg-press px-2.5 py-1.5 text-xs wrap-anywhere text-press-ink">
          {words}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  )
}
