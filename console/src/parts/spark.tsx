import { area, curveMonotoneX, line } from 'd3-shape'

import type { Point } from '../model'

const STEP = 10
const WINDOW = 900

/** Requests over the last quarter of an hour. */
export function Spark({ points, now, label }: { points: Point[]; now: number; label: string }) {
  const [width, height] = [110, 24]
  const end = Math.floor(now / 1000 / STEP) * STEP
  const known = new Map(points.map((point) => [point.at, point.requests]))
  const first = points[0]?.at ?? end
  const series: [number, number][] = []
  for (let at = Math.max(end - WINDOW, first); at < end; at += STEP) series.push([at, known.get(at) ?? 0])
  const most = Math.max(1, ...series.map(([, requests]) => requests))
  const x = ([at]: [number, number]) => ((at - end + WINDOW) / WINDOW) * width
  const y = ([, requests]: [number, number]) => height - 2 - (requests / most) * (height - 5)
  const shape = area().x(x).y0(height).y1(y).curve(curveMonotoneX)
  const edge = line().x(x).y(y).curve(curveMonotoneX)
  return (
    <svg width={width} height={height} role="img" aria-label={label} className="inline-block align-bottom">
      <line x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} className="stroke-line" />
      <path d={shape(series) ?? ''} className="fill-moving-wash" />
      <path d={edge(series) ?? ''} fill="none" className="stroke-moving" strokeWidth="1.5" />
    </svg>
  )
}
