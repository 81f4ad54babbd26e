import type { ReactNode } from 'react'
import { Link, useParams } from 'react-router'

import type { Service, Sheet } from '../data/api'
import { useService, useServices } from '../data/hooks'
import { platformName, Section, Waiting } from '../parts/parts'

const how = (s: Service) => (s.protocol === 'by-hand' ? 'registered with by hand' : s.connected ? 'account open' : 'no account yet')

/** The services that can be registered with. */
export function ServicesPage() {
  const services = useServices()
  if (!services.data) return <Waiting error={services.error} />
  return (
    <>
      <h1 className="mb-4 text-xl font-semibold">Services</h1>
      <p className="mb-4 max-w-3xl text-sm text-soft">Each is described by a sheet: what it asks for, issues, needs placed, and how it is proved. A sheet of your own is added with <code className="font-mono text-ink">ligare sheet add FILE</code>.</p>
      <ul className="grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
        {services.data.items.map((s) => (
          <li key={s.service} className="rounded border border-line bg-sheet p-4 text-sm">
            <Link to={`/services/${s.service}`} className="text-base font-semibold text-accent underline-offset-2 hover:underline">{s.title}</Link>
            <p>{s.kind}</p>
            <p className="mt-1 text-xs text-soft">{how(s)}{s.own && ' · a sheet of your own'}</p>
          </li>
        ))}
      </ul>
    </>
  )
}

/** One service's sheet, readable. */
export function ServicePage() {
  const { service: name = '' } = useParams()
  const service = useService(name)
  if (!service.data?.sheet) return <Waiting error={service.error} />
  const { sheet } = service.data
  return (
    <>
      <p className="text-sm text-soft"><Link to="/services" className="hover:underline">Services</Link> /</p>
      <h1 className="text-xl font-semibold">{sheet.title}</h1>
      <p className="mb-1 text-sm">{sheet.kind} · {sheet.platforms.map(platformName).join(', ')} · one registration spans {scopes[sheet.scope] ?? sheet.scope} · {how(service.data)}</p>
      <p className="mb-5 font-mono text-xs break-all text-soft">version {sheet.version}, {sheet.digest}</p>
      {sheet.about && <p className="mb-5 max-w-3xl rounded border border-line bg-wash px-3 py-2 text-sm">{sheet.about}</p>}
      <Whole sheet={sheet} />
      <Section title="As it is written">
        <pre className="max-h-96 overflow-auto rounded border border-line bg-sheet p-3 text-xs">{service.data.source}</pre>
      </Section>
    </>
  )
}

const scopes: Record<string, string> = { identity: 'one identity', environment: 'an app’s identities of one environment', app: 'all identities of an app', several: 'the identities that are named' }

function Table({ head, rows }: { head: string[]; rows: ReactNode[][] }) {
  return (
    <div className="overflow-x-auto rounded border border-line bg-sheet">
      <table className="w-full border-collapse text-sm">
        <thead><tr className="border-b border-line bg-wash text-left">{head.map((h) => <th key={h} scope="col" className="px-3 py-1.5 font-medium">{h}</th>)}</tr></thead>
        <tbody>{rows.map((row, i) => <tr key={i} className="border-b border-line align-top last:border-0">{row.map((cell, k) => <td key={k} className="px-3 py-1.5">{cell}</td>)}</tr>)}</tbody>
      </table>
    </div>
  )
}

const code = (text?: string) => text && <code className="font-mono text-xs break-all">{text}</code>

function Whole({ sheet }: { sheet: Sheet }) {
  const { asks, features, issues, placements, constraints, messages, duties } = sheet
  return (
    <>
      {!!asks?.length && (
        <Section title="Asks"><Table head={['What', 'Taken from', 'When', 'Form']} rows={asks.map((a) => [a.title, code(a.from), a.when ? `if ${a.when} is on` : a.optional ? 'if wanted' : a.platform ? `on ${platformName(a.platform)}` : 'always', code(a.choices?.join(' | ') ?? a.grammar)])} /></Section>
      )}
      {!!features?.length && <Section title="Features"><Table head={['Feature', 'Needs first']} rows={features.map((f) => [f.title, f.requires?.join(', ') ?? 'nothing'])} /></Section>}
      {sheet.redirects && <Section title="Redirect URIs"><Table head={['Form', 'For']} rows={sheet.redirects.allow.map((a) => [a.scheme, a.why ?? ''])} /></Section>}
      <Section title="Issues" aside="client values may ship in the app, server values must not">
        <Table head={['Value', 'Exposure', 'Form', '']} rows={[
          ...(issues.values ?? []).map((v) => [v.title, <Exposed key={v.id} server={v.exposure === 'server'} />, code(v.pattern), [v.per === 'identity' && 'one for each identity', v.keys && 'can be exchanged', v.supplies && `supplied to others as ${v.supplies}`, v.env && `for a backend: ${v.env}`, v.instead].filter(Boolean).join(' · ')]),
          ...(issues.files ?? []).map((f) => [code(f.name), <Exposed key={f.id} server={false} />, f.format, `${f.kind ?? 'config'} file${f.platform ? `, ${platformName(f.platform)}` : ''}; read: ${Object.keys(f.read ?? {}).sort().join(', ') || 'nothing'}`]),
        ]} />
      </Section>
      {sheet.builder && <Section title="Settings fields"><Table head={['Field', 'Where', 'Takes']} rows={sheet.builder.fields.map((f) => [f.title, f.group ?? '', f.takes ?? ''])} /></Section>}
      {!!placements?.length && (
        <Section title="Placed"><Table head={['Platform', 'What', 'With', 'Why']} rows={placements.map((p) => [platformName(p.platform), p.place, code(Object.entries(p.with ?? {}).map(([k, v]) => `${k}: ${v}`).join('; ')), `${p.why}${p.when ? ` (if ${p.when} is on)` : ''}${p.in ? ` (${p.in.join(', ')})` : ''}`])} /></Section>
      )}
      {!!constraints?.length && <Section title="Constraints"><Table head={['Of', 'Bound', 'Why']} rows={constraints.map((c) => [`${c.of}${c.platform ? `, ${platformName(c.platform)}` : ''}`, c.minimum ? `at least ${c.minimum}` : c.below ? `below ${c.below}` : `together: ${c.together?.join(', ') ?? ''}`, c.why])} /></Section>}
      {!!duties?.length && <Section title="Duties"><Table head={['Only a person can', 'Before']} rows={duties.map((d) => [d.title, d.before ?? 'release'])} /></Section>}
      <Section title="Proof"><Table head={['Shown by', 'How late', 'Silent though right']} rows={[[sheet.proof.title, sheet.proof.late, sheet.proof.silent?.join('; ') ?? '']]} /></Section>
      {!!messages?.length && <Section title="Messages"><Table head={['What it says', 'What it means', 'What to do']} rows={messages.map((m) => [code(m.code ?? m.text), m.cause, m.remedy])} /></Section>}
    </>
  )
}

function Exposed({ server }: { server: boolean }) {
  return server ? <span className="font-medium text-wrong"><span aria-hidden className="mr-1">✕</span>server</span> : <span className="text-fine"><span aria-hidden className="mr-1">●</span>client</span>
}
