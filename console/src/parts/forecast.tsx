import { local } from '../view'
import type { Done } from '../model'
import { Shape } from './signal'

/** How a change would go, rehearsed on a copy of the cluster. */
export function Forecast({ of }: { of: Done }) {
  const { forecast, sizes } = of
  if (forecast === undefined) return null
  return (
    <div role="status" aria-label="Forecast" className="mt-3 rounded-lg border border-line px-3 py-2">
      {forecast.workloads.map((moved) => (
        <p key={`${moved.workload.environment}/${moved.workload.name}`} className="flex items-baseline gap-2"><Shape of={moved.signal} /><span className="min-w-0 wrap-anywhere">{local(moved.words)}</span></p>
      ))}
      {(sizes ?? []).map((size) => <p key={size.words} className="mt-1 wrap-anywhere">{size.words}</p>)}
      {forecast.dark.length > 0 && <p className="mt-1 text-fault wrap-anywhere">Would no longer answer: {forecast.dark.join(', ')}</p>}
      {forecast.workloads.length === 0 && forecast.dark.length === 0 && <p>Nothing would move.</p>}
      <p className="mt-1 text-xs text-faint">Rehearsed on a copy of the cluster; nothing was changed. A new release is assumed to start and answer like the present one.</p>
    </div>
  )
}
