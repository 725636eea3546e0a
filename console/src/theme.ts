// Light or dark: as the system says, until someone chooses.

export type Theme = 'system' | 'light' | 'dark'

export function chosen(): Theme {
  const kept = localStorage.getItem('theme')
  return kept === 'light' || kept === 'dark' ? kept : 'system'
}

export function choose(theme: Theme) {
  if (theme === 'system') localStorage.removeItem('theme')
  else localStorage.setItem('theme', theme)
  apply()
}

export function apply() {
  const theme = chosen()
  const dark = theme === 'dark' || (theme === 'system' && matchMedia('(prefers-color-scheme: dark)').matches)
  document.documentElement.dataset.theme = dark ? 'dark' : 'light'
}

matchMedia('(prefers-color-scheme: dark)').addEventListener('change', apply)
