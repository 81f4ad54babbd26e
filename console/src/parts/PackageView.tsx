import type { ReactNode } from 'react'
import { Link } from 'react-router'

import type { AndroidFacts, BundleFacts, Certificate, Package, PackageFacts, PackageFinding, PackageSigner } from '../data/api'
import { CopyLineUp, LineUpTable } from './LineUpTable'
import { Copy, platformName, Section } from './parts'
import { SeverityMark } from './Severity'
import { Encodings } from './Signers'

export const weight = (bytes: number) => (bytes < 1 << 20 ? `${Math.max(1, Math.round(bytes / 1024))} KB` : `${(bytes / (1 << 20)).toFixed(bytes < 10 << 20 ? 1 : 0)} MB`)

/** What a built package holds, and what is wrong with it. */
export function PackageView({ of: p }: { of: Package }) {
  return (
    <>
      <div className="mb-6 rounded border border-line bg-sheet px-4 py-3 text-sm">
        <p className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-mono text-base font-semibold break-all">{p.identifier}</span><Copy text={p.identifier} what={p.identifier} />
          <span className="text-soft">{platformName(p.platform)} {p.kind.toUpperCase()}, {p.version}, {weight(p.size)}</span>
          {p.app ? <span>of <Link to={`/apps/${p.app}`} className="underline">{p.app}</Link>{p.environment && `, ${p.environment}`}</span> : <span className="text-wait">No app in the records has this identifier: it was compared with nothing.</span>}
        </p>
        <p className="mt-1 text-xs break-all text-soft">{p.name} · SHA-256 of the file <span className="font-mono">{p.sha256}</span></p>
      </div>
      {p.findings && <Findings findings={p.findings} blind={p.notLooked ?? []} />}
      {p.lineUp && p.lineUp.rows.length > 0 && <Section title="Line-up of the package" aside={<CopyLineUp lineUp={p.lineUp} />}><LineUpTable lineUp={p.lineUp} /></Section>}
      {p.facts && <Facts facts={p.facts} />}
    </>
  )
}

function Findings({ findings, blind }: { findings: PackageFinding[]; blind: string[] }) {
  return (
    <Section title="What is wrong" aside={findings.length === 0 ? undefined : `${findings.length} found`}>
      {findings.length === 0
        ? <p className="rounded border border-line bg-sheet px-3 py-2 text-sm"><span aria-hidden className="mr-2 font-bold text-fine">●</span>Nothing was found.</p>
        : <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">{findings.map((f, i) => <FindingLine key={`${f.rule} ${i}`} finding={f} open={f.severity === 'error'} />)}</ul>}
      {blind.map((why) => <p key={why} className="mt-2 text-sm text-soft"><span aria-hidden className="mr-2 font-bold text-wait">?</span><span className="sr-only">not looked at: </span>{why}</p>)}
    </Section>
  )
}

function FindingLine({ finding: f, open }: { finding: PackageFinding; open: boolean }) {
  return (
    <li className="px-3 py-2">
      <details open={open}>
        <summary className="cursor-pointer">
          <SeverityMark severity={f.severity} /> {f.message}
          <span className="block pl-6 text-xs break-all text-soft">{f.file && <span className="font-mono">{f.file}{f.line ? `:${f.line}` : ''} · </span>}{f.rule}</span>
        </summary>
        <dl className="mt-2 grid grid-cols-[6rem_1fr] gap-x-3 gap-y-1 pl-6 text-xs">
          {f.expected && <><dt className="text-soft">Should be</dt><dd className="break-all"><span className="font-mono">{f.expected}</span>{f.from && <span className="text-soft"> ({f.from})</span>}</dd></>}
          {f.actual && <><dt className="text-soft">Is</dt><dd className="font-mono break-all">{f.actual}</dd></>}
          {f.consequences?.map((c) => <Consequence key={c} say={c} />)}
          <dt className="text-soft">Why</dt><dd>{f.why}</dd>
          <dt className="text-soft">Mend</dt><dd>{f.fix}</dd>
        </dl>
      </details>
    </li>
  )
}

function Consequence({ say }: { say: string }) {
  return <><dt className="text-soft">With it</dt><dd>{say}</dd></>
}

function Facts({ facts }: { facts: PackageFacts }) {
  return (
    <>
      {facts.signing && <Signing signing={facts.signing} />}
      {facts.android && <Section title="What the manifest says"><AndroidList facts={facts.android} /></Section>}
      {facts.ios?.map((b) => <Bundle key={b.path} bundle={b} />)}
      {facts.files.length > 0 && (
        <Section title="Config and licence files in it">
          {facts.files.map((f) => (
            <div key={f.path} className="mb-2 rounded border border-line bg-sheet px-3 py-2 text-sm">
              <p><span className="font-mono break-all">{f.path}</span> <span className="text-soft">{f.service}</span></p>
              {f.problem && <p className="text-xs"><span aria-hidden className="mr-1.5 font-bold text-accent">▲</span>{f.problem}</p>}
              <dl className="grid grid-cols-[8rem_1fr] gap-x-3 text-xs">{f.reads?.map((r, i) => <Pair key={`${r.name} ${i}`} name={r.name}>{r.value}</Pair>)}</dl>
            </div>
          ))}
        </Section>
      )}
      {facts.notes?.map((n) => <p key={n} className="mb-2 text-sm text-soft">{n}</p>)}
    </>
  )
}

function Pair({ name, children }: { name: string; children: ReactNode }) {
  return <><dt className="py-0.5 text-soft">{name}</dt><dd className="py-0.5 font-mono break-all">{children}</dd></>
}

function Signing({ signing }: { signing: NonNullable<PackageFacts['signing']> }) {
  return (
    <Section title="Signed by" aside={signing.verified === undefined ? undefined : signing.verified ? 'every signature holds, over the whole file' : undefined}>
      {signing.note && <p className="mb-2 text-sm text-soft">{signing.note}</p>}
      <div className="grid gap-4 xl:grid-cols-2">{signing.signers.map((s, i) => <SignerCard key={`${s.scheme} ${i}`} signer={s} />)}</div>
    </Section>
  )
}

function range(s: PackageSigner): string {
  if (!s.minSdk) return ''
  return s.maxSdk ? `, for SDK ${s.minSdk} to ${s.maxSdk}` : `, from SDK ${s.minSdk} on`
}

function SignerCard({ signer: s }: { signer: PackageSigner }) {
  const c = s.certificates[0]
  return (
    <article className="rounded border border-line bg-sheet p-4 text-sm">
      <h3 className="font-semibold">Scheme {s.scheme}{s.file && `, ${s.file}`}{range(s)}</h3>
      {s.problem ? <p className="text-wrong"><span aria-hidden className="mr-1.5 font-bold">✕</span>does not hold: {s.problem}</p> : s.verified && <p className="text-fine"><span aria-hidden className="mr-1.5 font-bold">●</span>holds</p>}
      {c && <CertificateText certificate={c} />}
      {c && <details><summary className="mt-2 cursor-pointer text-xs text-soft">Digests of the certificate in every encoding</summary><Encodings digests={c.digests} of={`the signer by scheme ${s.scheme}`} /></details>}
      {s.lineage && s.lineage.length > 1 && <p className="mt-2 text-xs break-all text-soft">Rotated; before it: {s.lineage.slice(0, -1).map((l) => l.subject).join(', ')}</p>}
    </article>
  )
}

function CertificateText({ certificate: c }: { certificate: Certificate }) {
  return (
    <>
      <p className="mt-1 text-xs break-all text-soft">{c.subject} · {c.keyAlgorithm}, {c.keySize} bits{c.notAfter && <> · valid until <time dateTime={c.notAfter}>{c.notAfter.slice(0, 10)}</time></>}</p>
      <p className="mt-1 font-mono text-xs break-all">{c.digests.sha256Colons}<Copy text={c.digests.sha256Colons} what="the SHA-256 digest" /></p>
    </>
  )
}

function AndroidList({ facts: a }: { facts: AndroidFacts }) {
  return (
    <dl className="grid grid-cols-[9rem_1fr] gap-x-3 rounded border border-line bg-sheet px-3 py-2 text-xs">
      <Pair name="Name">{a.label?.map((l) => l.value + (l.config ? ` (${l.config})` : '')).join(', ')}</Pair>
      <Pair name="SDK">minimum {a.minSdk}, target {a.targetSdk}</Pair>
      <Pair name="Launcher">{a.launcherActivity}</Pair>
      {a.applicationClass && <Pair name="Application class">{a.applicationClass}</Pair>}
      {a.debuggable && <Pair name="Debuggable">yes: a debugger can be attached</Pair>}
      {a.permissions.length > 0 && <Pair name="Permissions">{a.permissions.map((p) => <div key={p.name}>{p.name}{p.maxSdk && ` up to SDK ${p.maxSdk}`}</div>)}</Pair>}
      {a.metadata.length > 0 && <Pair name="Metadata">{a.metadata.map((m) => <div key={m.name}>{m.name} = {m.value}{m.lost ? <span className="text-wrong"> ✕ a float: digits are lost</span> : <span className="text-soft"> {m.resource ?? (m.type === 'string' ? '' : m.type)}</span>}</div>)}</Pair>}
      {a.urlSchemes && <Pair name="URL schemes">{a.urlSchemes.join(', ')}</Pair>}
      {a.appLinks && <Pair name="Claimed hosts">{a.appLinks.join(', ')}</Pair>}
      {a.queries.packages && <Pair name="Sees">{a.queries.packages.join(', ')}</Pair>}
      {a.modules && <Pair name="Modules">{a.modules.join(', ')}</Pair>}
    </dl>
  )
}

const plain = (v: unknown) => (typeof v === 'string' ? v : JSON.stringify(v))

function Bundle({ bundle: b }: { bundle: BundleFacts }) {
  const s = b.signature
  const p = b.profile
  return (
    <Section title={`${b.kind === 'app' ? 'The app' : `The ${b.kind}`} ${b.bundleId}`} aside={<span className="font-mono text-xs">{b.path}</span>}>
      <dl className="grid grid-cols-[9rem_1fr] gap-x-3 rounded border border-line bg-sheet px-3 py-2 text-xs">
        <Pair name="Name">{b.displayName}</Pair>
        <Pair name="Version">{b.version} ({b.build}), needs iOS {b.minimumOs}</Pair>
        {b.urlSchemes && <Pair name="URL schemes">{b.urlSchemes.join(', ')}</Pair>}
        {b.querySchemes && <Pair name="Query schemes">{b.querySchemes.join(', ')}</Pair>}
        {b.backgroundModes && <Pair name="Background modes">{b.backgroundModes.join(', ')}</Pair>}
        {Object.entries(b.usageDescriptions ?? {}).map(([key, why]) => <Pair key={key} name={key.replace(/^NS|UsageDescription$/g, '')}>{why}</Pair>)}
        {s && <Pair name="Code signature">{s.identifier}{s.team && `, team ${s.team}`}, {s.slices.map((x) => x.architecture).join(' and ')}</Pair>}
        {s?.certificates?.[0] && <Pair name="Signed by">{s.certificates[0].subject}</Pair>}
        {Object.entries(s?.entitlements ?? {}).map(([key, value]) => <Pair key={key} name="Entitlement">{key} = {plain(value)}</Pair>)}
        {p && <Pair name="Profile">{p.name} ({p.kind}), team {p.team?.join(', ')}{p.ends && `, until ${p.ends.slice(0, 10)}`}{p.devices && `, for ${p.devices.length} devices`}</Pair>}
        {b.problems?.map((x) => <Pair key={x} name="Problem"><span className="text-wrong">✕ {x}</span></Pair>)}
      </dl>
    </Section>
  )
}
