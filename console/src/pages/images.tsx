import { useQuery } from '@tanstack/react-query'
import { Link, useParams, useSearchParams } from 'react-router'

import { image as detailsOf, images } from '../api'
import type { ImageDetails, ImageEntry } from '../model'
import { asOf } from '../moment'
import { Command } from '../parts/command'
import { Hint } from '../parts/hint'
import { Attached, CompareWith, Outside, PruneAct, Storage } from '../parts/image_store'
import { Nothing, PageHead, Trouble } from '../parts/page'
import { Table, type Column } from '../parts/table'
import { size } from '../view'

/** Asked again so often: others push images, and workloads move on. */
const EVERY = 5_000

/** What is in the image store, who runs it, and all about one of them. */
export function ImagesPage() {
  const [query, setQuery] = useSearchParams()
  const shown = query.get('image')
  const { data, error } = useQuery({ queryKey: ['images', asOf], queryFn: images, refetchInterval: asOf === null ? EVERY : false })
  return (
    <>
      <PageHead title="Images" about="The images of all environments, the newest first. Push with any client of the OCI distribution specification, or add a file.">
        <Command words="mainyard image add FILE" />
        <PruneAct />
      </PageHead>
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && data.length === 0 && <Nothing>No image is in the store. Add an image layout or an archive with the command above.</Nothing>}
      {shown !== null && <Details image={shown} all={data ?? []} close={() => { setQuery((before) => { before.delete('image'); return before }) }} />}
      {data !== undefined && data.length > 0 && <Table label="Images" columns={columns} rows={data} name={(each) => each.image} />}
      {asOf === null && <><Storage /><Outside /></>}
    </>
  )
}

const columns: Column<ImageEntry>[] = [
  { head: 'Image', names: true, by: (each) => each.image, cell: (each) => <OneImage name={each.image} /> },
  { head: 'Digest', cell: (each) => <Hint words={each.digest}><span tabIndex={0} className="figures text-xs text-soft">{each.digest.slice(0, 19)}</span></Hint> },
  { head: 'Size', by: (each) => each.size, cell: (each) => <span className="figures text-xs">{size(each.size)}</span> },
  { head: 'Added', by: (each) => each.origin.at, cell: (each) => <span className="text-soft">{each.origin.at.slice(0, 16).replace('T', ' ')} by {each.origin.by}</span> },
  { head: 'Commit', cell: (each) => <span className="figures text-xs">{each.commit?.slice(0, 12) ?? '-'}</span> },
  { head: 'Runs as', breaks: true, cell: (each) => each.uses.map((use) => `${use.workload.environment}/${use.workload.name}`).join(', ') || <span className="text-soft">nowhere now</span> },
]

/** A name that leads to all about it. */
function OneImage({ name }: { name: string }) {
  const [, setQuery] = useSearchParams()
  return <button type="button" className="figures cursor-pointer text-left text-xs hover:underline" onClick={() => { setQuery((before) => { before.set('image', name); return before }) }}>{name}</button>
}

function Details({ image, all, close }: { image: string; all: ImageEntry[]; close: () => void }) {
  const { data, error } = useQuery({ queryKey: ['image', image], queryFn: () => detailsOf(image) })
  return (
    <section aria-label={`About ${image}`} className="mb-4 rounded-xl border border-line bg-card p-4">
      <div className="mb-2 flex flex-wrap items-baseline gap-3">
        <h2 className="figures min-w-0 grow text-sm font-semibold wrap-anywhere">{image}</h2>
        <button type="button" className="cursor-pointer text-soft hover:underline" onClick={close}>Close</button>
      </div>
      {error !== null && <Trouble cause={error} />}
      {data !== undefined && <><AllAbout of={data} /><Attached all={data.attached} /><CompareWith key={image} image={image} all={all} /></>}
    </section>
  )
}

function AllAbout({ of }: { of: ImageDetails }) {
  const run = of.run
  const facts: [string, string][] = [
    ['For', of.platform], ['Made', of.created], ['Source', of.source ?? ''], ['Command', run.command.join(' ')],
    ['User', run.user === '' ? 'root' : run.user], ['Directory', run.directory], ['Ports', run.ports.join(', ')],
    ['Variables', run.env.join(' ')], ['Writes to', run.volumes.join(' ')], ['Stop signal', run.stop_signal],
    ['Health check', run.health_check == null ? '' : `${run.health_check} (not run by itself: declare a check that asks the same)`],
    ['Kept by', of.kept_by.join(', ')], ['Signed by', (of.signed_by ?? []).join(', ')],
  ]
  return (
    <>
      <dl className="mb-3 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        {facts.filter(([, words]) => words !== '').map(([head, words]) => (
          <div key={head} className="contents"><dt className="text-soft">{head}</dt><dd className="figures text-xs wrap-anywhere">{words}</dd></div>
        ))}
      </dl>
      {of.build != null && <p className="mb-3">It was made by <BuildLink number={of.build} />{of.commit != null && <> of commit <span className="figures text-xs">{of.commit.slice(0, 12)}</span></>}.</p>}
      <Table label={`Layers of ${of.image}`} columns={layers} rows={of.layers_in_order} name={(layer) => layer.digest} />
    </>
  )
}

function BuildLink({ number }: { number: number }) {
  const { environment = '' } = useParams()
  return <Link className="underline" to={`/${environment}/-/builds?build=${number}`}>build {number}</Link>
}

const layers: Column<ImageDetails['layers_in_order'][number]>[] = [
  { head: 'Layer', names: true, cell: (layer) => <span className="figures text-xs">{layer.digest.slice(0, 19)}</span> },
  { head: 'Size', cell: (layer) => <span className="figures text-xs">{size(layer.size)}</span> },
  { head: 'Files', cell: (layer) => <span className="figures text-xs">{layer.files}</span> },
  { head: 'Left out', cell: (layer) => <span className="text-soft">{layer.skipped_devices === 0 ? '-' : `${layer.skipped_devices} device files`}</span> },
  { head: 'Shared with', breaks: true, cell: (layer) => <span className="figures text-xs">{layer.shared_with.join(', ') || '-'}</span> },
]
