import { area, curveMonotoneX, line } from 'd3-shape'

import type { Point } from '../model'

const STEP = 10
const WINDOW = 900
const [WIDTH, HEIGHT] = [110, 24]

interface Curve {
  points: Point[]
  now: number
  label: string
}

/** Steps of the last quarter of an hour up to the last whole one, and their places. */
function scale({ points, now }: Curve, value: (point: Point) => number) {
  const end = Math.floor(now / 1000 / STEP) * STEP
  const known = new Map(points.map((point) => [point.at, value(point)]))
  const first = points[0]?.at ?? end
  const series: [number, number][] = []
  for (let at = Math.max(end - WINDOW, first); at < end; at += STEP) series.push([at, known.get(at) ?? 0])
  const most = Math.max(...series.map(([, height]) => height))
  const x = ([at]: [number, number]) => ((at - end + WINDOW) / WINDOW) * WIDTH
  const y = ([, height]: [number, number]) => HEIGHT - 2 - (height / Math.max(most, Number.MIN_VALUE)) * (HEIGHT - 5)
  return { series, x, y, most }
}

/** Requests over the last quarter of an hour; steps in which some failed are marked. */
export function Spark(curve: Curve) {
  const { series, x, y } = scale(curve, (point) => point.requests)
  const shape = area().x(x).y0(HEIGHT).y1(y).curve(curveMonotoneX)
  const edge = line().x(x).y(y).curve(curveMonotoneX)
  const failed = new Set(curve.points.filter((point) => point.failed > 0).map((point) => point.at))
  return (
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label={curve.label} className="inline-block align-bottom">
      <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} className="stroke-line" />
      <path d={shape(series) ?? ''} className="fill-moving-wash" />
      <path d={edge(series) ?? ''} fill="none" className="stroke-moving" strokeWidth="1.5" />
      {series.filter(([at]) => failed.has(at)).map((step) => <rect key={step[0]} x={x(step) - 1} y={HEIGHT - 4} width="2.5" height="4" className="fill-fault" />)}
    </svg>
  )
}

/** How long 95 of 100 requests took at most, over the last quarter of an hour, with the longest in figures. */
export function Lasting(curve: Curve) {
  const { series, x, y, most } = scale(curve, (point) => point.p95 ?? 0)
  const edge = line().x(x).y(y).curve(curveMonotoneX)
  return (
    <>
      <svg width={WIDTH} height={HEIGHT} role="img" aria-label={curve.label} className="inline-block align-bottom">
        <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} className="stroke-line" />
        <path d={edge(series) ?? ''} fill="none" className="stroke-soft" strokeWidth="1.5" />
      </svg>
      {most > 0 && <span className="figures ml-2 text-xs text-soft">up to {most < 10 ? most.toFixed(1) : Math.round(most)} ms</span>}
    </>
  )
}
