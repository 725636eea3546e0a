import type { ReactNode } from 'react'

export function Card({ title, aside, className = '', children }: { title?: string; aside?: ReactNode; className?: string; children: ReactNode }) {
  return (
    <section aria-label={title} className={`min-w-0 rounded-xl border border-line bg-card px-4.5 py-3.5 ${className}`}>
      {title !== undefined && (
        <div className="mb-2.5 flex items-baseline justify-between">
          <h2 className="text-[13px] font-semibold text-soft">{title}</h2>
          {aside}
        </div>
      )}
      {children}
    </section>
  )
}

export function Pair({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex gap-4 border-b border-line/70 py-2 last:border-b-0">
      <dt className="w-40 shrink-0 text-soft">{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </div>
  )
}
