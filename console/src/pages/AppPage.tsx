import { Link, useNavigate, useParams } from 'react-router'

import type { Finding, Registration, Service } from '../data/api'
import { useApp, useConnections, useLineUp, useRegistrations, useReport, useServices, useSightings, useSigners, useSurvey } from '../data/hooks'
import { CopyLineUp, LineUpTable } from '../parts/LineUpTable'
import { Connections } from '../parts/Connections'
import { Ago, Copy, platformName, RegistrationState, Section, Waiting } from '../parts/parts'
import { SeverityMark } from '../parts/Severity'
import { Signers } from '../parts/Signers'
import { Variants } from '../parts/Variants'

/** One app: what was found, the line-up, what was seen, identities and registrations. */
export function AppPage() {
  const { app: name = '' } = useParams()
  const app = useApp(name)
  if (!app.data) return <Waiting error={app.error} />
  return (
    <>
      <p className="text-sm text-soft"><Link to="/" className="hover:underline">Apps and services</Link> /</p>
      <div className="mb-5 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-xl font-semibold">{app.data.title}</h1>
        <Link to={`/packages?app=${encodeURIComponent(name)}`} className="text-sm text-soft hover:underline">Hand in a built package</Link>
      </div>
      <FindingsSection app={name} />
      <LineUpSection app={name} />
      <div className="grid gap-x-8 lg:grid-cols-2">
        <Section title="Identities">
          <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">
            {app.data.identities.map((i) => (
              <li key={i.id} className="flex flex-wrap items-baseline gap-x-3 px-3 py-2">
                <span className="w-16 text-soft">{platformName(i.platform)}</span>
                <span className="font-mono break-all">{i.identifier}<Copy text={i.identifier} what={i.identifier} /></span>
                <span className="ml-auto text-soft">{i.displayName}</span>
              </li>
            ))}
          </ul>
        </Section>
        <SightingsSection app={name} />
      </div>
      <RegistrationsSection app={name} />
      <ConnectionsSection app={name} />
      <VariantsSection app={name} />
      <SignersSection app={name} />
    </>
  )
}

function ConnectionsSection({ app }: { app: string }) {
  const connections = useConnections(app)
  if (!connections.data || connections.data.items.length === 0) return null
  return <Section title="Connections" aside="what one service supplies to another"><Connections connections={connections.data.items} /></Section>
}

function VariantsSection({ app }: { app: string }) {
  const survey = useSurvey(app)
  return (
    <Section title="Variants" aside={survey.data?.at && <>tree read <Ago at={survey.data.at} /></>}>
      {survey.data ? <Variants variants={survey.data.variants} /> : <Waiting error={survey.error} />}
    </Section>
  )
}

function SignersSection({ app }: { app: string }) {
  const signers = useSigners(app)
  return <Section title="Signers" aside="certificates that sign its Android builds">{signers.data ? <Signers signers={signers.data.items} app={app} /> : <Waiting error={signers.error} />}</Section>
}

function LineUpSection({ app }: { app: string }) {
  const lineUp = useLineUp(app)
  return (
    <Section title="Line-up" aside={lineUp.data && <>{lineUp.data.at ? <>tree checked <Ago at={lineUp.data.at} /></> : 'the tree was never checked'}<CopyLineUp lineUp={lineUp.data} /></>}>
      {lineUp.data ? <LineUpTable lineUp={lineUp.data} /> : <Waiting error={lineUp.error} />}
    </Section>
  )
}

function FindingLine({ finding }: { finding: Finding }) {
  return (
    <li className="px-3 py-2">
      <p><SeverityMark severity={finding.severity} /> {finding.message}</p>
      <p className="text-xs break-all text-soft"><span className="font-mono">{finding.file}{finding.line > 0 && `:${finding.line}:${finding.column}`}</span> · {finding.rule}{finding.variant && ` · builds ${finding.variant}`}</p>
    </li>
  )
}

function FindingsSection({ app }: { app: string }) {
  const report = useReport(app)
  if (report.data === undefined) return <Waiting error={report.error} />
  if (report.data === null) return <Section title="Findings"><p className="text-soft">The tree was never checked. Run <code className="font-mono text-ink">ligare check</code> in it.</p></Section>
  const { looked, notLooked } = report.data
  const findings = report.data.findings.filter((f) => f.severity !== 'note')
  const notes = report.data.findings.length - findings.length
  return (
    <Section title="Findings" aside={<>{looked} rules looked{notLooked > 0 && `, ${notLooked} could not`} · <Link to={`/apps/${app}/findings`} className="text-accent underline-offset-2 hover:underline">{notes > 0 ? (notes === 1 ? '1 note, ' : `${notes} notes, `) : ''}history and branches</Link></>}>
      {findings.length === 0 ? <p className="rounded border border-line bg-sheet px-3 py-2 text-sm"><span aria-hidden className="mr-2 text-fine">●</span>Nothing wrong at the last check.</p>
        : <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">{findings.map((f) => <FindingLine key={f.fingerprint} finding={f} />)}</ul>}
    </Section>
  )
}

function SightingsSection({ app }: { app: string }) {
  const sightings = useSightings(app)
  if (!sightings.data) return <Waiting error={sightings.error} />
  return (
    <Section title="Sightings" aside="what services saw, newest first">
      {sightings.data.items.length === 0 ? <p className="text-sm text-soft">Nothing yet. Run <code className="font-mono text-ink">ligare probe</code>, or open the app; this list fills by itself.</p> : (
        <ul className="max-h-72 divide-y divide-line overflow-y-auto rounded border border-line bg-sheet text-sm" data-testid="sightings">
          {sightings.data.items.map((s) => (
            <li key={s.id} className="arrived flex flex-wrap items-baseline gap-x-3 px-3 py-2">
              <span className="w-16 text-soft">{platformName(s.platform)}</span>
              <span className="font-mono break-all">{s.identifier}</span>
              <span>{s.kind}</span>
              <span className="ml-auto text-xs text-soft">{s.service}, {s.environment} · <Ago at={s.at} /></span>
            </li>
          ))}
        </ul>
      )}
    </Section>
  )
}

function RegistrationsSection({ app }: { app: string }) {
  const registrations = useRegistrations(app)
  const services = useServices()
  if (!registrations.data || !services.data) return <Waiting error={registrations.error ?? services.error} />
  return (
    <Section title="Registrations" aside={<RegisterMenu app={app} services={services.data.items} />}>
      {registrations.data.items.length === 0 ? <p className="text-sm text-soft">None yet. Choose a service above, or run <code className="font-mono text-ink">ligare register SERVICE</code>.</p> : (
        <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">{registrations.data.items.map((g) => <RegistrationLine key={g.id} registration={g} />)}</ul>
      )}
    </Section>
  )
}

function RegisterMenu({ app, services }: { app: string; services: Service[] }) {
  const go = useNavigate()
  return (
    <label className="flex items-center gap-2">Register with
      <select className="rounded border border-line bg-sheet px-2 py-1 text-ink" value="" onChange={(event) => { void go(`/apps/${app}/register/${event.target.value}`) }}>
        <option value="" disabled>choose a service…</option>
        {services.map((s) => <option key={s.service} value={s.service}>{s.title}, {s.kind}</option>)}
      </select>
    </label>
  )
}

function RegistrationLine({ registration: g }: { registration: Registration }) {
  const open = g.duties.filter((d) => !d.done).length
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 gap-y-1 px-3 py-2">
      <Link to={`/registrations/${g.id}`} className="font-semibold text-accent underline-offset-2 hover:underline">{g.title}{g.environment && `, ${g.environment}`}</Link>
      <RegistrationState state={g.state} />
      <span className="text-soft">revision {g.revision}</span>
      <span className="font-mono text-xs text-soft">{g.identities.map((i) => `${platformName(i.platform)} ${i.identifier}`).join(', ')}</span>
      {open > 0 && <span className="ml-auto text-xs text-soft">{open === 1 ? '1 duty open' : `${open} duties open`}</span>}
    </li>
  )
}
