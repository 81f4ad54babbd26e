import { useState, type DragEvent } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'

import { call, type Keep, type Package } from '../data/api'
import { useChange, useHandIn, usePackage, usePackages } from '../data/hooks'
import { PackageView, weight } from '../parts/PackageView'
import { Act, Ago, platformName, Section, Waiting } from '../parts/parts'

/** Built packages: drop one, see what it holds and what is wrong with it. */
export function PackagesPage() {
  const [query] = useSearchParams()
  const app = query.get('app') ?? ''
  const [hand, sent] = useHandIn()
  const packages = usePackages(app)
  return (
    <>
      {app && <p className="text-sm text-soft"><Link to="/" className="hover:underline">Apps and services</Link> / <Link to={`/apps/${app}`} className="hover:underline">{app}</Link> /</p>}
      <h1 className="mb-5 text-xl font-semibold">Built packages</h1>
      <Drop app={app} hand={hand} sent={sent} />
      {hand.error && <div className="mb-6"><Waiting error={hand.error} /></div>}
      {hand.data && <PackageView key={hand.data.sha256} of={hand.data} />}
      <Section title={app ? `Handed in for ${app}` : 'Handed in'} aside="the packages themselves are not kept">
        {packages.data ? <List packages={packages.data.items} /> : <Waiting error={packages.error} />}
      </Section>
    </>
  )
}

const keeps: [Keep, string][] = [['facts', 'keep the facts'], ['everything', 'keep findings and line-up too'], ['nothing', 'keep nothing']]

function Drop({ app, hand, sent }: { app: string; hand: ReturnType<typeof useHandIn>[0]; sent: number }) {
  const [environment, setEnvironment] = useState('')
  const [keep, setKeep] = useState<Keep>('facts')
  const [over, setOver] = useState(false)
  const take = (files: FileList | null) => {
    const file = files?.[0]
    if (file) hand.mutate({ file, app, environment: environment.trim(), keep })
  }
  const drop = (event: DragEvent) => {
    event.preventDefault()
    setOver(false)
    if (!hand.isPending) take(event.dataTransfer.files)
  }
  return (
    <div className="mb-6">
      <label onDragOver={(event) => { event.preventDefault(); setOver(true) }} onDragLeave={() => { setOver(false) }} onDrop={drop}
        className={`flex cursor-pointer flex-col items-center rounded border-2 border-dashed px-4 py-7 text-center focus-within:outline focus-within:outline-2 ${over ? 'border-accent bg-wash' : 'border-line bg-sheet'}`}>
        <input type="file" accept=".apk,.aab,.ipa,.apks" className="sr-only" disabled={hand.isPending} onChange={(event) => { take(event.target.files); event.target.value = '' }} />
        {hand.isPending ? <Progress sent={sent} /> : (
          <>
            <span className="font-medium">Drop an APK, AAB or IPA here, or choose one</span>
            <span className="mt-1 text-sm text-soft">It is read on the server and taken away again. What it holds is compared with what the services issued, and looked through for server secrets.</span>
          </>
        )}
      </label>
      <div className="mt-2 flex flex-wrap gap-x-5 gap-y-2 text-sm text-soft">
        <label>Environment it was built for <input className="ml-1 h-7 w-44 rounded border border-line bg-sheet px-2 text-ink" value={environment} onChange={(event) => { setEnvironment(event.target.value) }} placeholder="if that is not clear" /></label>
        <label>Afterwards
          <select className="ml-1 h-7 rounded border border-line bg-sheet px-2 text-ink" value={keep} onChange={(event) => { setKeep(event.target.value as Keep) }}>
            {keeps.map(([value, say]) => <option key={value} value={value}>{say}</option>)}
          </select>
        </label>
      </div>
    </div>
  )
}

function Progress({ sent }: { sent: number }) {
  const say = sent < 1 ? `${Math.round(sent * 100)} % sent` : 'sent; it is being read'
  return (
    <span role="status" className="w-full max-w-sm">
      <span className="font-medium">{say}</span>
      <span aria-hidden className="mt-2 block h-1.5 rounded bg-wash"><span className="block h-1.5 rounded bg-accent" style={{ width: `${Math.round(sent * 100)}%` }} /></span>
    </span>
  )
}

function counts(p: Package): string {
  if (p.errors === undefined) return 'facts only'
  if (!p.app) return 'compared with nothing'
  return `${p.errors} errors, ${p.warnings ?? 0} warnings, ${p.notes ?? 0} notes`
}

function List({ packages }: { packages: Package[] }) {
  if (packages.length === 0) return <p className="text-sm text-soft">None yet.</p>
  return (
    <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">
      {packages.map((p) => (
        <li key={p.id} className="flex flex-wrap items-baseline gap-x-4 px-3 py-2">
          <Link to={`/packages/${p.id ?? ''}`} className="font-mono break-all hover:underline">{p.identifier}</Link>
          <span className="text-soft">{platformName(p.platform)} {p.kind.toUpperCase()}, {p.version}, {weight(p.size)}</span>
          <span className="text-soft">{counts(p)}</span>
          <span className="ml-auto text-soft">{p.by}, <Ago at={p.at} /></span>
        </li>
      ))}
    </ul>
  )
}

/** One package whose facts were kept. */
export function PackagePage() {
  const { id = '' } = useParams()
  const one = usePackage(id)
  const go = useNavigate()
  const forget = useChange(() => call('DELETE', `/v1/packages/${encodeURIComponent(id)}`))
  if (!one.data) return <Waiting error={one.error} />
  return (
    <>
      <p className="text-sm text-soft"><Link to="/packages" className="hover:underline">Built packages</Link> /</p>
      <div className="mb-5 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-xl font-semibold break-all">{one.data.name}</h1>
        <span className="text-sm text-soft">handed in by {one.data.by} <Ago at={one.data.at} /></span>
        <span className="ml-auto"><Act plain busy={forget.isPending} onClick={() => { forget.mutate(undefined, { onSuccess: () => { void go('/packages') } }) }}>Forget it</Act></span>
      </div>
      {forget.error && <Waiting error={forget.error} />}
      <PackageView of={one.data} />
    </>
  )
}
