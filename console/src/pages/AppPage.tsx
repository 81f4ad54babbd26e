import { Link, useParams } from 'react-router'

import type { Finding, IssuedValue, Registration } from '../data/api'
import { useApp, useLineUp, useRegistrations, useReport, useSightings, useSigners, useSurvey } from '../data/hooks'
import { CopyLineUp, LineUpTable } from '../parts/LineUpTable'
import { Ago, Copy, platformName, Section, Tip, Waiting } from '../parts/parts'
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
      <h1 className="mb-5 text-xl font-semibold">{app.data.title}</h1>
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
      <VariantsSection app={name} />
      <SignersSection app={name} />
      <RegistrationsSection app={name} />
    </>
  )
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

const severity = { error: { mark: '✕', tone: 'text-wrong' }, warning: { mark: '▲', tone: 'text-accent' }, note: { mark: 'i', tone: 'text-wait' } }

function FindingLine({ finding }: { finding: Finding }) {
  const s = severity[finding.severity]
  return (
    <li className="px-3 py-2">
      <p><span aria-hidden className={`mr-2 font-bold ${s.tone}`}>{s.mark}</span><span className={`font-medium ${s.tone}`}>{finding.severity}</span> {finding.message}</p>
      <p className="text-xs break-all text-soft"><span className="font-mono">{finding.file}{finding.line > 0 && `:${finding.line}:${finding.column}`}</span> · {finding.rule} · builds {finding.variant}</p>
    </li>
  )
}

function FindingsSection({ app }: { app: string }) {
  const report = useReport(app)
  if (report.data === undefined) return <Waiting error={report.error} />
  if (report.data === null) return <Section title="Findings"><p className="text-soft">The tree was never checked. Run <code className="font-mono text-ink">ligare check</code> in it.</p></Section>
  const { findings, looked, notLooked } = report.data
  return (
    <Section title="Findings" aside={`${looked} rules looked${notLooked ? `, ${notLooked} could not` : ''}`}>
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

/** An issued value, masked until it is asked for; one that must not ship has no value here at all. */
function Issued({ value }: { value: IssuedValue }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-3 py-0.5">
      <dt className="w-48 text-soft">{value.title}</dt>
      <dd>
        {value.exposure === 'server' ? <span className="italic">kept on the server, must not ship</span> : (
          <>
            <Tip text={value.value ?? ''}><button type="button" className="font-mono" aria-label={`${value.title}: show`}>{mask(value.value ?? '')}</button></Tip>
            <Copy text={value.value ?? ''} what={value.title} />
          </>
        )}
      </dd>
    </div>
  )
}

const mask = (v: string) => (v.length < 12 ? '•'.repeat(v.length) : `${v.slice(0, 3)}•••${v.slice(-2)}`)

function RegistrationsSection({ app }: { app: string }) {
  const registrations = useRegistrations(app)
  if (!registrations.data) return <Waiting error={registrations.error} />
  return (
    <Section title="Registrations">
      {registrations.data.items.length === 0 && <p className="text-sm text-soft">None yet. Run <code className="font-mono text-ink">ligare register SERVICE</code>.</p>}
      <div className="grid gap-4 lg:grid-cols-2">{registrations.data.items.map((g) => <RegistrationCard key={g.id} registration={g} />)}</div>
    </Section>
  )
}

function RegistrationCard({ registration: g }: { registration: Registration }) {
  return (
    <article className="rounded border border-line bg-sheet p-4 text-sm">
      <h3 className="mb-1 font-semibold">{g.service}, {g.environment}</h3>
      <p className="mb-2 text-soft">{g.state} · revision {g.revision} · {g.features.join(', ')}</p>
      {g.problem && <p role="alert" className="mb-2 rounded bg-wrongwash p-2"><strong>{g.problem}</strong> {g.remedy}</p>}
      <dl>{g.values.map((v) => <Issued key={v.name} value={v} />)}</dl>
      {g.identities.map((i) => (
        <div key={i.platform + i.identifier} className="mt-2 border-t border-line pt-2">
          <p>{platformName(i.platform)} <span className="font-mono break-all">{i.identifier}</span></p>
          <dl>
            {i.values.map((v) => <Issued key={v.name} value={v} />)}
            {i.file && <div className="flex gap-x-3 py-0.5"><dt className="w-48 text-soft">Config file</dt><dd className="font-mono">{i.file}</dd></div>}
            {i.digests?.map((d) => <div key={d} className="flex flex-wrap gap-x-3 py-0.5"><dt className="w-48 text-soft">Digest registered</dt><dd className="font-mono text-xs break-all">{d}</dd></div>)}
          </dl>
        </div>
      ))}
    </article>
  )
}
