import type { Image } from '../model'
import { Command } from '../parts/command'
import { Table, type Column } from '../parts/table'
import { useView } from '../store'
import { Hint } from '../parts/hint'

/** What is in the image store, and what runs of it. */
export function ImagesPage() {
  const view = useView()
  const images = Object.values(view.objects.image).sort((a, b) => a.image.localeCompare(b.image, 'en', { numeric: true }))
  const users = new Map<string, string[]>()
  for (const workload of Object.values(view.objects.workload)) {
    const name = `${workload.target.environment}/${workload.target.name}`
    const image = view.objects.release[`${name}@${workload.release}`]?.spec.image
    if (image !== undefined) users.set(image, [...(users.get(image) ?? []), name])
  }
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-xl font-semibold">Images</h1>
        <Command words="mainyard image add FILE" />
      </div>
      {images.length === 0 ? (
        <p className="rounded-xl border border-line bg-card p-6">The images of all environments are listed here. Add an OCI layout or an archive with the command above.</p>
      ) : (
        <Table label="Images" columns={columns(users)} rows={images} name={(image) => image.image} />
      )}
    </>
  )
}

const columns = (users: Map<string, string[]>): Column<Image>[] => [
  { head: 'Image', names: true, by: (image) => image.image, cell: (image) => <span className="figures text-xs">{image.image}</span> },
  { head: 'Digest', cell: (image) => <Hint words={image.digest}><span tabIndex={0} className="figures text-xs text-soft">{image.digest.slice(0, 19)}</span></Hint> },
  { head: 'Size', by: (image) => image.size, cell: (image) => <span className="figures text-xs">{(image.size / 1024).toFixed(0)} KiB</span> },
  { head: 'Added', by: (image) => image.origin.at, cell: (image) => <span className="text-soft">{image.origin.by}</span> },
  { head: 'Runs in', breaks: true, cell: (image) => (users.get(image.image) ?? []).join(', ') || <span className="text-soft">nowhere now</span> },
]
