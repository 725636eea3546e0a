import * as Checkbox from '@radix-ui/react-checkbox'

interface Props {
  words: string
  on: boolean
  onChange: (on: boolean) => void
  disabled?: boolean
  className?: string
}

/** A thing that is so or not so. */
export function Tick({ words, on, onChange, disabled, className = '' }: Props) {
  return (
    <label className={`flex items-center gap-2 ${className}`}>
      <Checkbox.Root
        checked={on} disabled={disabled} onCheckedChange={(next) => onChange(next === true)}
        className="flex size-4.5 shrink-0 items-center justify-center rounded border border-soft bg-card disabled:opacity-50 data-[state=checked]:border-press data-[state=checked]:bg-press data-[state=checked]:text-press-ink"
      >
        <Checkbox.Indicator>
          <svg width="11" height="9" viewBox="0 0 11 9" aria-hidden fill="none" stroke="currentColor" strokeWidth="2"><path d="M1 4.5l3 3 6-6.5" /></svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      {words}
    </label>
  )
}
