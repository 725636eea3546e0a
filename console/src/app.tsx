import type { ReactNode } from 'react'
import { Link, Navigate, Route, Routes, useLocation, useParams } from 'react-router'

import { AccessPage } from './pages/access'
import { BoardPage } from './pages/board'
import { BuildsPage } from './pages/builds'
import { ComparePage } from './pages/compare'
import { ImagesPage } from './pages/images'
import { asOf } from './moment'
import { LogPage } from './pages/log'
import { RoutesPage } from './pages/routes'
import { CertificatesPage } from './pages/certificates'
import { RequestsPage } from './pages/requests'
import { SecretsPage } from './pages/secrets'
import { SincePage } from './pages/since'
import { UsagePage } from './pages/usage'
import { SourcesPage } from './pages/sources'
import { TrailPage } from './pages/trail'
import { WorkloadPage } from './pages/workload'
import { Finder } from './parts/finder'
import { AnyMoment, PastMark } from './parts/past'
import { usePhase, useView } from './store'
import { MemberMenu } from './parts/member'

export function App() {
  const phase = usePhase()
  if (phase.phase === 'loading') return <Alone title="Main Yard">Reading the board…</Alone>
  if (phase.phase === 'signed-out') {
    return (
      <Alone title="Sign in">
        Open the link that this command prints, on the machine where the platform runs:
        <code className="figures mt-3 block rounded-md border border-line bg-card px-3 py-2">mainyard sign-in</code>
      </Alone>
    )
  }
  if (phase.phase === 'refused') {
    return (
      <Alone title="Nothing to show">
        {phase.because.charAt(0).toUpperCase()}{phase.because.slice(1)}. <a className="underline" href="/">Back to now</a>
      </Alone>
    )
  }
  return (
    <Routes>
      <Route path="/" element={<First />} />
      <Route path="/:environment" element={<Frame><BoardPage /></Frame>} />
      <Route path="/:environment/-/trail" element={<Frame><TrailPage /></Frame>} />
      <Route path="/:environment/-/routes" element={<Frame><RoutesPage /></Frame>} />
      <Route path="/:environment/-/sources" element={<Frame><SourcesPage /></Frame>} />
      <Route path="/:environment/-/since" element={<Frame><SincePage /></Frame>} />
      <Route path="/:environment/-/images" element={<Frame><ImagesPage /></Frame>} />
      <Route path="/:environment/-/builds" element={<Frame><BuildsPage /></Frame>} />
      <Route path="/:environment/-/secrets" element={<Frame><SecretsPage /></Frame>} />
      <Route path="/:environment/-/certificates" element={<Frame><CertificatesPage /></Frame>} />
      <Route path="/:environment/-/usage" element={<Frame><UsagePage /></Frame>} />
      <Route path="/:environment/-/requests" element={<Frame><RequestsPage /></Frame>} />
      <Route path="/:environment/-/access" element={<Frame><AccessPage /></Frame>} />
      <Route path="/:environment/:name/log" element={<Frame><LogPage /></Frame>} />
      <Route path="/:environment/:name/compare" element={<Frame><ComparePage /></Frame>} />
      <Route path="/:environment/:name" element={<Frame><WorkloadPage /></Frame>} />
    </Routes>
  )
}

function Alone({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="mx-auto mt-[18vh] max-w-md px-6">
      <Mark />
      <h1 className="mt-5 text-2xl font-semibold">{title}</h1>
      <div className="mt-2 text-soft">{children}</div>
    </main>
  )
}

/** The environment someone looked at last, or the first one. */
function First() {
  const view = useView()
  const names = Object.keys(view.objects.environment)
  const last = localStorage.getItem('environment') ?? ''
  const first = names.includes(last) ? last : (names.includes('staging') ? 'staging' : names[0])
  if (first !== undefined) return <Navigate to={`/${first}`} replace />
  return (
    <Alone title="Nothing is here yet">
      Everything runs in an environment. Make the first one:
      <code className="figures mt-3 block rounded-md border border-line bg-card px-3 py-2">mainyard environment add staging</code>
    </Alone>
  )
}

function Mark() {
  return <img src="/mark.svg" width="34" height="34" alt="" />
}

function pageName(path: string): string {
  const names: Record<string, string> = { trail: 'Trail', images: 'Images', builds: 'Builds', access: 'Access', secrets: 'Secrets', certificates: 'Certificates', usage: 'Right size', requests: 'Requests', since: 'What changed since', routes: 'Routes and services', sources: 'Sources' }
  return names[path.slice(path.lastIndexOf('/') + 1)] ?? 'Board'
}

function Frame({ children }: { children: ReactNode }) {
  const view = useView()
  const { environment, name } = useParams()
  const { pathname } = useLocation()
  const names = Object.keys(view.objects.environment).sort((a, b) => Number(b === 'staging') - Number(a === 'staging') || a.localeCompare(b))
  return (
    <div className="flex min-h-screen max-sm:flex-col">
      <nav aria-label="Pages" className="flex w-16 shrink-0 flex-col items-center gap-3 bg-rail py-3.5 max-sm:w-full max-sm:flex-row max-sm:flex-wrap max-sm:gap-1 max-sm:px-3 max-sm:py-2">
        <Link to="/" aria-label="Main Yard, to the board">
          <Mark />
        </Link>
        <RailLink to={`/${environment ?? ''}`} here={!pathname.includes('/-/')} word="Board" shape="M0 1h18M0 7h12M0 13h16" />
        <RailLink to={`/${environment ?? ''}/-/routes`} here={pathname.endsWith('/-/routes')} word="Routes" shape="M1 3h6l4 8h6M7 3h10M1 11h4" />
        <RailLink to={`/${environment ?? ''}/-/sources`} here={pathname.endsWith('/-/sources')} word="Sources" shape="M4 1v12M4 4h6c3 0 3 3 3 3v6M2 1h4M11 13h4" />
        <RailLink to={`/${environment ?? ''}/-/trail`} here={pathname.endsWith('/-/trail')} word="Trail" shape="M2 1v12M2 3h14M2 8h10M2 13h6" />
        <RailLink to={`/${environment ?? ''}/-/images`} here={pathname.endsWith('/-/images')} word="Images" shape="M1 4l8-3 8 3-8 3zM1 8l8 3 8-3M1 11l8 3 8-3" />
        <RailLink to={`/${environment ?? ''}/-/builds`} here={pathname.endsWith('/-/builds')} word="Builds" shape="M1 13h16M3 13V6h5v7M10 13V2h5v11M5 9h1M12 5h1M12 9h1" />
        <RailLink to={`/${environment ?? ''}/-/requests`} here={pathname.endsWith('/-/requests')} word="Requests" shape="M1 2h11M1 7h15M1 12h8M14 1l3 1-3 1" />
        <RailLink to={`/${environment ?? ''}/-/usage`} here={pathname.endsWith('/-/usage')} word="Size" shape="M2 13V7M7 13V3M12 13V9M17 13V1" />
        <RailLink to={`/${environment ?? ''}/-/secrets`} here={pathname.endsWith('/-/secrets')} word="Secrets" shape="M6 4a3 3 0 1 1 0 6 3 3 0 0 1 0-6zM9 7h8M14 7v3" />
        <RailLink to={`/${environment ?? ''}/-/certificates`} here={pathname.endsWith('/-/certificates')} word="Certs" shape="M2 2h14v8H2zM6 10v4l3-1.5L12 14v-4M5 5h8" />
        <RailLink to={`/${environment ?? ''}/-/access`} here={pathname.endsWith('/-/access')} word="Access" shape="M3 7V4.5a3.5 3.5 0 0 1 7 0V7M1.5 7h10v7h-10zM14 3v8M12 9h4" />
      </nav>
      <div className="min-w-0 grow">
        <header className="flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-line bg-card px-6 py-2.5">
          <div role="group" aria-label="Environment" className="flex overflow-hidden rounded-lg border border-line">
            {names.map((each) => (
              <Link
                key={each}
                to={pathname.includes('/-/') ? `/${each}${pathname.slice(pathname.indexOf('/-/'))}` : `/${each}`}
                aria-current={each === environment ? 'true' : undefined}
                onClick={() => localStorage.setItem('environment', each)}
                className={`px-3.5 py-1.5 ${each === environment ? 'bg-press text-press-ink' : 'text-soft hover:bg-paper'}`}
              >
                {each}
              </Link>
            ))}
          </div>
          <p className="text-soft">
            {name === undefined ? pageName(pathname) : (
              <>
                <Link to={`/${environment ?? ''}`} className="hover:underline">Board</Link> / <strong className="font-semibold text-ink">{name}</strong>
              </>
            )}
          </p>
          <div className="ml-auto flex items-center gap-2.5">
            <AnyMoment />
            <Finder />
            <MemberMenu member={view.member} environment={environment ?? ''} />
          </div>
          <p className="flex items-center gap-2 text-soft">
            <span className={`inline-block size-2 rounded-full ${asOf !== null ? 'bg-caution' : view.lostSince === null ? 'bg-cell' : 'bg-fault'}`} aria-hidden />
            {asOf !== null ? 'the past' : view.lostSince === null ? 'live' : 'cut off'}
          </p>
        </header>
        <PastMark />
        {view.lostSince !== null && (
          <p role="status" className="border-b border-caution/40 bg-caution-wash px-6 py-1.5 text-caution">
            The stream has been cut since {new Date(view.lostSince).toLocaleTimeString('en-GB', { timeZoneName: 'short' })}. This page shows that moment; it is updated when the stream is back.
          </p>
        )}
        <main key={pathname} className={`mx-auto max-w-[1400px] px-6 py-4.5 max-sm:px-3 ${view.lostSince === null ? '' : 'opacity-60'}`}>
          {children}
        </main>
      </div>
    </div>
  )
}

function RailLink({ to, here, word, shape }: { to: string; here: boolean; word: string; shape: string }) {
  return (
    <Link
      to={to}
      aria-current={here ? 'page' : undefined}
      className={`flex w-13 flex-col items-center gap-1 rounded-lg py-2 text-[11px] font-medium text-white max-sm:w-auto max-sm:flex-row max-sm:px-2 ${here ? 'bg-white/15' : 'hover:bg-white/10'}`}
    >
      <svg width="18" height="15" viewBox="0 0 18 15" aria-hidden fill="none" stroke="currentColor" strokeWidth="1.8">
        <path d={shape} />
      </svg>
      {word}
    </Link>
  )
}
