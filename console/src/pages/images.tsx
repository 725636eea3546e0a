import { useView } from '../store'
import { Command } from '../parts/command'

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
        <p className="rounded-xl border border-line bg-card p-6">Images of every environment stand here. Add an OCI layout or an archive with the command above.</p>
      ) : (
        <div className="overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label="Images">
          <table className="w-full text-left">
            <thead>
              <tr className="border-b border-line text-[13px] text-soft">
                {['Image', 'Digest', 'Size', 'Added', 'Runs in'].map((word) => <th key={word} scope="col" className="px-3 py-2.5 font-semibold">{word}</th>)}
              </tr>
            </thead>
            <tbody>
              {images.map((image) => (
                <tr key={image.image} className="border-b border-line/70 last:border-b-0">
                  <th scope="row" className="figures px-3 py-2 text-xs font-medium whitespace-nowrap">{image.image}</th>
                  <td className="figures px-3 text-xs text-soft" title={image.digest}>{image.digest.slice(0, 19)}</td>
                  <td className="figures px-3 text-xs whitespace-nowrap">{(image.size / 1024).toFixed(0)} KiB</td>
                  <td className="px-3 whitespace-nowrap text-soft">{image.origin.by}</td>
                  <td className="px-3">{(users.get(image.image) ?? []).join(', ') || <span className="text-soft">nowhere now</span>}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}
