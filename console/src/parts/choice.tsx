import * as Select from '@radix-ui/react-select'
import { useId } from 'react'

/** Radix keeps the empty value for "nothing chosen yet"; this stands for a choice whose value is empty. */
const NONE = '\u0000none'

export interface Option {
  value: string
  words?: string
}

interface Props {
  name?: string
  /** The label of a choice that no text beside it names. */
  label?: string
  value: string
  onChange: (value: string) => void
  options: Option[]
  /** What is shown while nothing is chosen. */
  placeholder?: string
  className?: string
}

/** One of several, chosen from a list that opens. */
export function Choice({ name, label, value, onChange, options, placeholder, className = '' }: Props) {
  const inside = (each: string) => (each === '' ? NONE : each)
  const known = options.some((each) => each.value === value)
  return (
    <Select.Root value={known ? inside(value) : ''} onValueChange={(next) => onChange(next === NONE ? '' : next)}>
      <Select.Trigger
        aria-label={label} data-choice={name}
        className={`flex max-w-full items-center justify-between gap-3 rounded-lg border border-line bg-card px-3 py-1.5 text-left data-placeholder:text-faint ${className}`}
      >
        <span className="min-w-0 truncate"><Select.Value placeholder={placeholder} /></span>
        <Select.Icon asChild>
          <svg width="10" height="6" viewBox="0 0 10 6" aria-hidden fill="none" stroke="currentColor" strokeWidth="1.6"><path d="M1 1l4 4 4-4" /></svg>
        </Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" sideOffset={4} className="z-30 max-h-(--radix-select-content-available-height) max-w-[92vw] min-w-(--radix-select-trigger-width) overflow-hidden rounded-lg border border-line bg-card">
          <Select.Viewport className="p-1">
            {options.map((each) => (
              <Select.Item key={each.value} value={inside(each.value)} className="cursor-default rounded-md px-2.5 py-1.5 wrap-anywhere outline-none select-none data-highlighted:bg-paper data-[state=checked]:font-semibold">
                <Select.ItemText>{each.words ?? each.value}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  )
}

/** A choice in a form, under its name. */
export function ChoiceField({ words, className = '', ...choice }: Props & { words: string }) {
  const id = useId()
  return (
    <div role="group" aria-labelledby={id} className={className}>
      <span id={id}>{words}</span>
      <Choice {...choice} label={choice.label ?? words} className="mt-1 w-full py-2" />
    </div>
  )
}
