import type { ButtonHTMLAttributes } from 'react'

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  tone?: 'plain' | 'strong' | 'danger'
}

const tones = {
  plain: 'border-line bg-card text-ink hover:bg-paper',
  strong: 'border-press bg-press text-press-ink hover:opacity-90',
  danger: 'border-line bg-card text-fault hover:bg-fault-wash',
}

export function Button({ tone = 'plain', className = '', ...rest }: Props) {
  return (
    <button
      type="button"
      className={`rounded-lg border px-3 py-1.5 text-[13px] font-semibold whitespace-nowrap disabled:cursor-default disabled:opacity-50 ${tones[tone]} ${className}`}
      {...rest}
    />
  )
}
