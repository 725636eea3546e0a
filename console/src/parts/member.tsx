import * as Menu from '@radix-ui/react-dropdown-menu'
import { useState } from 'react'
import { useNavigate } from 'react-router'

import { signOut } from '../api'
import { asOf } from '../moment'
import { choose, chosen, type Theme } from '../theme'

const THEMES: { theme: Theme; words: string }[] = [
  { theme: 'system', words: 'Same as the system' },
  { theme: 'light', words: 'Light' },
  { theme: 'dark', words: 'Dark' },
]

const item = 'flex cursor-default items-center gap-2 rounded-md px-2.5 py-1.5 outline-none select-none data-highlighted:bg-paper'

/** Who is signed in, and what is theirs: the colours, their tokens and sessions, the way out. */
export function MemberMenu({ member, environment }: { member: string; environment: string }) {
  const [theme, setTheme] = useState(chosen)
  const go = useNavigate()
  return (
    <Menu.Root>
      <Menu.Trigger className="max-w-44 truncate rounded-lg border border-line px-2.5 py-1.5 text-[13px] text-soft hover:bg-paper" aria-label={`Signed in as ${member}`}>
        {member}
      </Menu.Trigger>
      <Menu.Portal>
        <Menu.Content align="end" sideOffset={4} className="z-30 min-w-52 rounded-lg border border-line bg-card p-1 text-[13px]">
          <Menu.Label className="px-2.5 py-1 text-xs text-soft">Colours</Menu.Label>
          <Menu.RadioGroup value={theme} onValueChange={(next) => { choose(next as Theme); setTheme(next as Theme) }}>
            {THEMES.map((each) => (
              <Menu.RadioItem key={each.theme} value={each.theme} className={item}>
                <span className="w-3"><Menu.ItemIndicator>✓</Menu.ItemIndicator></span>
                {each.words}
              </Menu.RadioItem>
            ))}
          </Menu.RadioGroup>
          <Menu.Separator className="my-1 h-px bg-line" />
          <Menu.Item className={item} onSelect={() => { void go(`/${environment}/-/access`) }}>Tokens and sessions</Menu.Item>
          {asOf === null && <Menu.Item className={item} onSelect={() => { void signOut().then(() => { window.location.assign('/') }) }}>Sign out</Menu.Item>}
        </Menu.Content>
      </Menu.Portal>
    </Menu.Root>
  )
}
