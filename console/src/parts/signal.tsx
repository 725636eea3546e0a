import type { Replica, Signal } from '../model'
import { NOT_ISOLATED, isolates, short, signal } from '../view'
import { useView } from '../store'

const wash: Record<Signal, string> = {
  good: 'bg-good-wash text-good',
  moving: 'bg-moving-wash text-moving',
  caution: 'bg-caution-wash text-caution',
  fault: 'bg-fault-wash text-fault',
  rest: 'bg-rest-wash text-rest',
}

/** A signal's shape: circle, double chevron, triangle, square, ring. */
export function Shape({ of }: { of: Signal }) {
  return (
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden className="shrink-0 fill-current">
      {of === 'good' && <circle cx="5" cy="5" r="4.6" />}
      {of === 'moving' && <path d="M.8 1l4 4-4 4M5 1l4 4-4 4" fill="none" stroke="currentColor" strokeWidth="1.8" />}
      {of === 'caution' && <path d="M5 .6l4.8 8.8H.2z" />}
      {of === 'fault' && <rect width="10" height="10" rx="1" />}
      {of === 'rest' && <circle cx="5" cy="5" r="4" fill="none" stroke="currentColor" strokeWidth="1.6" />}
    </svg>
  )
}

export function Badge({ of, word }: { of: Signal; word: string }) {
  return (
    <span className={`inline-flex items-center gap-1.5 rounded-md px-2 py-0.5 text-[13px] font-semibold whitespace-nowrap ${wash[of]}`}>
      <Shape of={of} />
      {word}
    </span>
  )
}

type Look = 'ready' | 'starting' | 'leaving' | 'failed' | 'unready'

export function look(state: string): Look {
  if (state === 'ready') return 'ready'
  if (state === 'draining' || state === 'ended') return 'leaving'
  if (state === 'failed' || state === 'lost') return 'failed'
  if (state === 'unready' || state === 'set-aside') return 'unready'
  return 'starting'
}

/** Replicas as small cells: filled ready, dashed starting, half leaving, crossed failed. */
export function Cells({ replicas, wanted }: { replicas: Replica[]; wanted: number }) {
  const view = useView()
  const shown = replicas.slice(0, 16)
  const ready = replicas.filter((replica) => replica.state === 'ready').length
  if (replicas.length === 0) return <span className="text-faint">{wanted === 0 ? 'none, on purpose' : view.whole ? 'none yet' : `${wanted}, not known`}</span>
  return (
    <span className="inline-flex items-center gap-1 align-middle" role="img" aria-label={`${ready} of ${wanted} ready`}>
      {shown.map((replica) => (
        <span key={replica.id} title={`${short(replica)} ${replica.state}${isolates(view, replica.node) ? '' : `, ${NOT_ISOLATED}`}`} className="inline-flex" data-signal={signal(view, 'replica', replica.state)}>
          <SmallCell of={look(replica.state)} />
        </span>
      ))}
      {replicas.length > shown.length && <span className="figures text-xs text-soft">{ready} of {wanted}</span>}
    </span>
  )
}

function SmallCell({ of }: { of: Look }) {
  return (
    <svg width="13" height="16" viewBox="0 0 13 16" aria-hidden>
      {of === 'ready' && <rect x=".5" y=".5" width="12" height="15" rx="2.5" className="fill-cell" />}
      {of === 'starting' && <rect x="1" y="1" width="11" height="14" rx="2" fill="none" className="stroke-moving" strokeWidth="1.5" strokeDasharray="3 2" />}
      {of === 'leaving' && (
        <>
          <rect x="1" y="1" width="11" height="14" rx="2" fill="none" className="stroke-cell" strokeWidth="1.2" strokeDasharray="2 2" />
          <path d="M1 3a2 2 0 012-2h3.5v14H3a2 2 0 01-2-2z" className="fill-cell" opacity=".55" />
        </>
      )}
      {of === 'failed' && (
        <>
          <rect x="1" y="1" width="11" height="14" rx="2" className="fill-fault-wash stroke-fault" strokeWidth="1.5" />
          <path d="M2 2.5l9 11M11 2.5l-9 11" className="stroke-fault" strokeWidth="1.6" />
        </>
      )}
      {of === 'unready' && (
        <>
          <rect x="1" y="1" width="11" height="14" rx="2" className="fill-caution-wash stroke-caution" strokeWidth="1.5" />
          <path d="M6.5 5l3 5.5h-6z" className="fill-caution" />
        </>
      )}
    </svg>
  )
}
