// "What answers now": ways in, the service, a lane for each release, a cell for each replica.

import { linkHorizontal } from 'd3-shape'
import { useSyncExternalStore } from 'react'

import { NOT_ISOLATED, environmentView, isolates, key, rate, served, short, type Row, type ShownRoute } from '../view'
import type { Lane, Replica } from '../model'
import { useView } from '../store'
import { look } from './signal'

const WIDTH = 1130
const SERVICE = { x: 326, width: 196, height: 52 }
const LANE = { x: 640, width: 480 }
const WAY = { width: 236, height: 44, gap: 30 }

const thickness = (rate: number, most: number) => (rate <= 0 ? 1.5 : 2 + 5.5 * Math.sqrt(rate / Math.max(most, 0.1)))
const link = linkHorizontal<unknown, [number, number]>()

interface Drawn {
  lane: Lane
  members: Replica[]
  rate: number
  /** Its part of the workload's requests, from 0 to 1. */
  part: number
  p95: number | null
  height: number
}

const slim = matchMedia('(max-width: 640px)')
const useNarrow = () => useSyncExternalStore((changed) => { slim.addEventListener('change', changed); return () => slim.removeEventListener('change', changed) }, () => slim.matches)

/** How a way goes on to the replicas. */
const onward = (route: ShownRoute) => (route.tls?.untouched === true ? 'TLS untouched' : `${route.tls?.onward === 'tls' ? 'TLS' : 'plain'} onward`)

export function Line({ row }: { row: Row }) {
  const narrow = useNarrow()
  const view = useView()
  const service = row.services[0]
  const { workload } = row
  const target = key(workload.target)
  const total = row.served.rate
  const inside = service === undefined ? '' : environmentView(view, service.target.environment).services[service.target.name]?.inside_address ?? service.address
  const atService = service === undefined ? 0 : served(view.figures.services, key(service.target)).rate
  const ways = service === undefined ? [] : [
    ...row.routes.map((route) => ({ title: route.at, note: onward(route), rate: served(view.figures.routes, route.at).rate })),
    { title: `inside: ${service.target.name}:${Object.keys(service.ports)[0] ?? ''}`, note: 'from replicas', rate: served(view.figures.inside, key(service.target)).rate },
  ]
  const lanes: Drawn[] = row.view.lanes.map((lane) => {
    const members = lane.replicas.map((id) => view.objects.replica[id]).filter((replica) => replica !== undefined)
    const { rate, p95 } = served(view.figures.releases, `${target}@${lane.release}`)
    return { lane, members, rate, part: total > 0 ? rate / total : 0, p95, height: 30 + cellsHeight(members.length) }
  })

  const laneGap = 34
  const lanesHeight = lanes.reduce((height, lane) => height + lane.height + laneGap, 0)
  const waysHeight = ways.length * (WAY.height + WAY.gap)
  const height = Math.max(lanesHeight, waysHeight, 110) + 24
  const middle = height / 2
  const { taking } = row.view
  const cut = taking === 0
  const why = workload.state === 'asleep' ? 'it is asleep; the next request wakes it' : workload.wanted === 0 ? 'it is scaled to none' : (workload.reason?.sentence ?? 'no replica is ready yet')
  const most = Math.max(total, atService, 1)

  const firstTop = (height - lanesHeight + laneGap) / 2
  const placed = lanes.map((drawn, index) => {
    const above = lanes.slice(0, index).reduce((sum, earlier) => sum + earlier.height + laneGap, 0)
    const top = firstTop + above
    return { drawn, top, middle: top + 22 + LARGE.height / 2 }
  })
  const words = `${service === undefined ? 'No route leads here.' : `${rate(total)} to ${workload.target.name}.`} ${lanes.map(({ lane, members }) => `Release ${lane.release}: ${lane.ready} of ${members.length} ready.`).join(' ')}`

  return (
    <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="The line">
      {narrow && (
        <ul className="mb-2 text-[13px]">
          {ways.map((way) => <li key={way.title}><strong className="font-semibold">{way.title}</strong> <span className="text-soft">{rate(way.rate)}</span></li>)}
          {service !== undefined && <li className="text-soft">lead to service {service.target.name}, {inside}, {taking} take requests</li>}
          {cut && <li className="font-semibold text-fault">nothing answers: {why}</li>}
        </ul>
      )}
      <svg viewBox={narrow ? `${LANE.x - 8} 0 ${LANE.width + 16} ${height}` : `0 0 ${WIDTH} ${height}`} className={narrow ? 'w-full' : 'w-full min-w-[720px]'} role="img" aria-label={words} data-testid="line">
        {ways.map((way, index) => {
          const y = middle - waysHeight / 2 + index * (WAY.height + WAY.gap) + WAY.gap / 2
          return (
            <g key={way.title}>
              <path
                d={link({ source: [WAY.width, y + WAY.height / 2], target: [SERVICE.x, middle] }) ?? ''}
                fill="none" className={cut ? 'stroke-faint' : 'stroke-ink'} strokeWidth={thickness(way.rate, most)} strokeDasharray={cut ? '5 5' : undefined}
              />
              <rect x="1" y={y} width={WAY.width} height={WAY.height} rx="7" className="fill-card stroke-line" strokeWidth="1.4" />
              <text x="13" y={y + 19} className="fill-ink text-[13px] font-semibold">{clip(way.title, 32)}</text>
              <text x="13" y={y + 35} className="fill-soft text-[11px]">{way.note} · {rate(way.rate)}</text>
            </g>
          )
        })}
        {service !== undefined && placed.map(({ drawn: { lane, rate }, middle: laneMiddle }) => (
          <path
            key={lane.release}
            d={link({ source: [SERVICE.x + SERVICE.width, middle], target: [LANE.x, laneMiddle] }) ?? ''}
            fill="none"
            className={lane.ready > 0 ? (lane.release === workload.release ? 'stroke-ink' : 'stroke-faint') : 'stroke-line'}
            strokeWidth={thickness(rate, most)}
            strokeDasharray={lane.ready > 0 ? undefined : '4 5'}
          />
        ))}
        {service !== undefined && (
          <g>
            <rect x={SERVICE.x} y={middle - SERVICE.height / 2} width={SERVICE.width} height={SERVICE.height} rx="8" className="fill-press" />
            <text x={SERVICE.x + 13} y={middle - 4} className="fill-press-ink text-[13px] font-semibold">service {clip(service.target.name, 18)}</text>
            <text x={SERVICE.x + 13} y={middle + 14} className="fill-press-ink text-[11px]" opacity=".75">{inside} · {taking} take requests</text>
          </g>
        )}
        {placed.map(({ drawn, top: y, middle: laneMiddle }) => (
          <LaneView key={drawn.lane.release} drawn={drawn} y={y} middle={laneMiddle} current={drawn.lane.release === workload.release} />
        ))}
        {cut && (
          <g data-testid="cut">
            <path d={`M${SERVICE.x + SERVICE.width + 46} ${middle - 13}l14 26m4 -26l14 26`} className="stroke-fault" strokeWidth="3" fill="none" />
            <text x={SERVICE.x} y={middle + 48} className="fill-fault text-[13px] font-semibold">nothing answers: {clip(why, 92)}</text>
          </g>
        )}
      </svg>
    </div>
  )
}

const clip = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text)

const LARGE = { width: 48, height: 28, gap: 10, perRow: 8 }
const SMALL = { width: 11, height: 15, gap: 3.5, perRow: 33 }
const NAMED = 16
const DRAWN = 330

function cellsHeight(count: number) {
  if (count <= NAMED) return Math.max(1, Math.ceil(count / LARGE.perRow)) * (LARGE.height + 8)
  return Math.ceil(Math.min(count, DRAWN) / SMALL.perRow) * (SMALL.height + 4) + (count > DRAWN ? 18 : 0)
}

function LaneView({ drawn, y, middle, current }: { drawn: Drawn; y: number; middle: number; current: boolean }) {
  const { lane, members, rate: laneRate, part, p95 } = drawn
  const { ready } = lane
  const many = members.length > NAMED
  const size = many ? SMALL : LARGE
  const notes = [
    lane.tag,
    many ? `${ready} of ${members.length} ready` : '',
    lane.copies_only ? 'copies only' : lane.share === null ? '' : `${lane.share / 10} % share`,
    laneRate > 0 ? `${Math.round(part * 100)} % of requests` : '',
    p95 === null ? '' : `p95 ${p95 < 10 ? p95.toFixed(1) : Math.round(p95)} ms`,
    members.every((member) => member.state === 'draining') ? 'leaving' : '',
  ].filter((note) => note !== '')
  const shown = members.slice(0, DRAWN)
  return (
    <g data-testid={`lane-${lane.release}`}>
      <text x={LANE.x} y={y + 12} className="fill-ink text-[13px]">
        <tspan className="font-semibold">release {lane.release}</tspan>
        <tspan dx="9" className="fill-soft">{notes.join(' · ')}</tspan>
      </text>
      {!many && (
        <line x1={LANE.x} x2={LANE.x + LANE.width} y1={middle} y2={middle} className={current ? 'stroke-ink' : 'stroke-faint'} strokeWidth={ready > 0 ? thickness(laneRate, laneRate / Math.max(part, 0.05)) : 1} strokeDasharray={ready > 0 ? undefined : '4 5'} />
      )}
      {shown.map((replica, index) => {
        const column = index % size.perRow
        const line = Math.floor(index / size.perRow)
        const x = LANE.x + column * (size.width + size.gap)
        const top = y + 22 + line * (size.height + (many ? 4 : 8))
        return <Cell key={replica.id} replica={replica} x={x} y={top} width={size.width} height={size.height} named={!many} />
      })}
      {members.length > DRAWN && (
        <text x={LANE.x} y={y + 22 + cellsHeight(members.length)} className="fill-soft text-[11px]">and {members.length - DRAWN} more</text>
      )}
    </g>
  )
}

function Cell({ replica, x, y, width, height, named }: { replica: Replica; x: number; y: number; width: number; height: number; named: boolean }) {
  const isolated = isolates(useView(), replica.node)
  const of = look(replica.state)
  const box = { x, y, width, height, rx: named ? 5 : 2 }
  return (
    <g className="eases" data-state={replica.state}>
      <title>{`${short(replica)} ${replica.state}${isolated ? '' : `, ${NOT_ISOLATED}`}${replica.reason ? `: ${replica.reason.sentence}` : ''}`}</title>
      {of === 'ready' && <rect {...box} className="fill-cell stroke-card" strokeWidth={named ? 2 : 0} />}
      {of === 'starting' && <rect {...box} className="fill-card stroke-moving" strokeWidth="1.6" strokeDasharray="4 3" />}
      {of === 'leaving' && (
        <>
          <rect {...box} className="fill-card stroke-cell" strokeWidth="1.3" strokeDasharray="3 3" />
          <rect {...box} width={width / 2} className="fill-cell" opacity=".55" />
        </>
      )}
      {of === 'failed' && (
        <>
          <rect {...box} className="fill-fault-wash stroke-fault" strokeWidth="1.6" />
          <path d={`M${x + 3} ${y + 3}L${x + width - 3} ${y + height - 3}M${x + width - 3} ${y + 3}L${x + 3} ${y + height - 3}`} className="stroke-fault" strokeWidth="1.4" opacity={named ? 0.45 : 1} />
        </>
      )}
      {of === 'unready' && <rect {...box} className="fill-caution-wash stroke-caution" strokeWidth="1.6" />}
      {named && (
        <text x={x + width / 2} y={y + height / 2 + 4.5} textAnchor="middle" className={`text-[12px] font-semibold ${of === 'ready' ? 'fill-white' : of === 'failed' ? 'fill-fault' : of === 'unready' ? 'fill-caution' : 'fill-ink'}`}>
          {short(replica)}
        </text>
      )}
    </g>
  )
}
