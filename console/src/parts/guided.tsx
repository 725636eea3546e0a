// Guided forms: what a person does in the first minute, with the file that it would be.

import { useEffect, useState } from 'react'

import { declare, imageConfig } from '../api'
import { useView } from '../store'
import { Act, field } from './acts'
import { Button } from './button'
import { ChoiceField } from './choice'
import { Tick } from './tick'

const NAME = /^[a-z](-?[a-z0-9])*$/
const text = (value: string) => JSON.stringify(value)

/** The file that is declared, to read and to keep. */
function File({ words }: { words: string }) {
  return (
    <>
      <p className="mt-4 mb-1 text-xs text-soft">The file that is declared</p>
      <pre className="figures overflow-x-auto rounded-md border border-line bg-paper px-3 py-2 text-xs" data-testid="file">{words}</pre>
    </>
  )
}

/** Lets visitors in to a service. */
export function NewRoute({ environment, services }: { environment: string; services: string[] }) {
  const view = useView()
  const domain = view.objects.environment[environment]?.domain ?? `${environment}.localhost`
  const [name, setName] = useState('')
  const [to, setTo] = useState(services[0] ?? '')
  const [host, setHost] = useState('')
  const service = view.objects.service[`${environment}/${to}`]
  const application = service?.application ?? name
  const file = `application = ${text(application)}\n\n[route.${name || 'NAME'}]\n${host === '' ? '' : `host = ${text(host)}\n`}to = [{ service = ${text(to)} }]\n`
  return (
    <Act
      trigger={<Button>Add a route</Button>} name="add-route" title={`A new route in ${environment}`} about="It lets visitors in to a service, at once."
      command={`mainyard add route ${environment}/${name || 'NAME'} --to ${to || 'SERVICE'}${host === '' ? '' : ` --host ${host}`}`}
      act="Add it" disabled={!NAME.test(name) || to === ''} run={() => declare(environment, file)} look={() => declare(environment, file, true)}
    >
      <label className="mt-4 block">Name<input required value={name} onChange={(event) => { setName(event.target.value) }} className={field} placeholder="kiosk" autoFocus /></label>
      <ChoiceField words="Service" name="service" className="mt-3" value={to} onChange={setTo} options={services.map((each) => ({ value: each }))} />
      <label className="mt-3 block">Host<input value={host} onChange={(event) => { setHost(event.target.value) }} className={field} placeholder={`${name || 'kiosk'}.${domain}`} /></label>
      <File words={file} />
    </Act>
  )
}

/** Runs an image, with a service and a way in. */
export function NewWorkload({ environment }: { environment: string }) {
  const view = useView()
  const images = Object.keys(view.objects.image).sort()
  const [name, setName] = useState('')
  const [image, setImage] = useState(images[0] ?? '')
  const [replicas, setReplicas] = useState(1)
  const [port, setPort] = useState<number | null>(null)
  const [asked, setAsked] = useState<string | null>(null)
  const [checked, setChecked] = useState(true)
  const [open, setOpen] = useState(true)
  useEffect(() => {
    let wanted = true
    const take = (first: number | null, path: string | null) => {
      if (!wanted) return
      setPort(first)
      setAsked(path)
    }
    if (image !== '') imageConfig(image).then((config) => { take(config.ports[0] ?? null, config.ready_path ?? null) }, () => { take(null, null) })
    return () => { wanted = false }
  }, [image])
  const way = open && port !== null
  const check = port !== null && asked !== null && checked ? asked : null
  const lines = [
    `application = ${text(name || 'NAME')}`, '', `[workload.${name || 'NAME'}]`, `image    = ${text(image)}`, `replicas = ${replicas}`,
    ...(port === null ? [] : [`ports    = { http = ${port} }`]),
    ...(check === null ? [] : [`checks   = { ready = { path = ${text(check)}, port = "http" } }`]),
    ...(way ? ['', `[route.${name || 'NAME'}]`, `to = [{ service = ${text(name || 'NAME')} }]`] : []),
  ]
  const file = `${lines.join('\n')}\n`
  return (
    <Act
      trigger={<Button>Add a workload</Button>} name="add-workload" title={`A new workload in ${environment}`} about="It runs an image. If the image exposes a port, that is its port."
      command={`mainyard add workload ${environment}/${name || 'NAME'} --image ${image || 'IMAGE'}${replicas === 1 ? '' : ` --replicas ${replicas}`}${check === null ? '' : ` --ready ${check}`}${way ? ' --open' : ''}`}
      act="Run it" disabled={!NAME.test(name) || image === ''} run={() => declare(environment, file)} look={() => declare(environment, file, true)}
    >
      <label className="mt-4 block">Name<input required value={name} onChange={(event) => { setName(event.target.value) }} className={field} placeholder="kiosk" autoFocus /></label>
      <ChoiceField words="Image" name="image" className="mt-3" value={image} onChange={setImage} options={images.map((each) => ({ value: each }))} />
      <div className="mt-3 flex gap-3">
        <label className="block grow">Replicas<input type="number" min={0} max={10000} value={replicas} onChange={(event) => { setReplicas(Number(event.target.value)) }} className={field} /></label>
        <label className="block grow">Port<input type="number" min={1} max={65535} value={port ?? ''} onChange={(event) => { setPort(event.target.value === '' ? null : Number(event.target.value)) }} className={field} placeholder="none" /></label>
      </div>
      {asked !== null && port !== null && <Tick words={`Check ${asked}, as the image's own health check does`} className="mt-3" on={checked} onChange={setChecked} />}
      <Tick words="Let visitors in, by a route of its name" className="mt-3" on={open} onChange={setOpen} disabled={port === null} />
      <File words={file} />
    </Act>
  )
}
