import { useState } from 'react'
import { Link, useParams } from 'react-router'

import { call, type Key, type Placement, type Registered, type Registration, type Sheet } from '../data/api'
import { useBuilder, useCatalogue, useChange, useConnections, useRegistration, useReport, useService } from '../data/hooks'
import { Connections } from '../parts/Connections'
import { Issued, Masked } from '../parts/Issued'
import { Act, Ago, Copy, platformName, RegistrationState, Section, Waiting } from '../parts/parts'

/** One registration: what was issued, files, keys, duties, and what flows to and from other services. */
export function RegistrationPage() {
  const { id = '' } = useParams()
  const registration = useRegistration(id)
  const g = registration.data
  const service = useService(g?.service ?? '')
  if (!g || !service.data?.sheet) return <Waiting error={registration.error ?? (g ? service.error : null)} />
  const { sheet } = service.data
  return (
    <>
      <p className="text-sm text-soft"><Link to={`/apps/${g.app}`} className="hover:underline">{g.app}</Link> /</p>
      <div className="mb-1 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-xl font-semibold">{g.title}{g.environment && `, ${g.environment}`}</h1>
        <RegistrationState state={g.state} />
        <Link to={`/apps/${g.app}/register/${g.service}`} className="ml-auto text-sm text-accent underline">add to it</Link>
      </div>
      <p className="mb-5 text-sm text-soft">{sheet.kind} · revision {g.revision}{g.features.length > 0 && ` · on: ${g.features.join(', ')}`}{g.looked && <> · looked <Ago at={g.looked} /></>} · <Link to={`/services/${g.service}`} className="underline">its sheet</Link></p>
      {g.problem && <div role="alert" className="mb-5 rounded border border-wrong bg-wrongwash p-3 text-sm"><strong>{g.problem}</strong> {g.remedy}</div>}
      {g.byHand && <RecordForm registration={g} sheet={sheet} />}
      <div className="grid gap-x-8 lg:grid-cols-2">
        <div>
          <IssuedSection registration={g} />
          <KeysSection registration={g} />
        </div>
        <div>
          <DutiesSection registration={g} />
          <GivenSection registration={g} />
        </div>
      </div>
      <PlacementsSection registration={g} sheet={sheet} />
      <OpenSection registration={g} />
      {sheet.catalogue && <CatalogueSection id={g.id} />}
      {sheet.builder && <BuilderSection id={g.id} />}
    </>
  )
}

const box = 'rounded border border-line bg-sheet text-sm'

function IssuedSection({ registration: g }: { registration: Registration }) {
  return (
    <Section title="Issued" aside="masked; server values never leave the server">
      <div className={`${box} p-4`}>
        <dl>{g.values.map((v) => <Issued key={v.name} value={v} />)}</dl>
        {g.identities.map((i) => <Identity key={i.platform + i.identifier} registration={g} identity={i} />)}
      </div>
    </Section>
  )
}

function Identity({ registration: g, identity: i }: { registration: Registration; identity: Registered }) {
  const at = `/v1/registrations/${g.id}/files/${encodeURIComponent(i.platform)}/${encodeURIComponent(i.identifier)}/`
  return (
    <div className="mt-2 border-t border-line pt-2 first:mt-0 first:border-0 first:pt-0">
      <h3 className="font-medium">{platformName(i.platform)} <span className="font-mono font-normal break-all">{i.identifier}</span>{i.published && <span className="ml-2 text-xs text-soft">published, frozen</span>}</h3>
      <dl>
        {i.values.map((v) => <Issued key={v.name} value={v} />)}
        {i.files.map((f) => (
          <div key={f.id} className="flex flex-wrap items-baseline gap-x-3 py-1">
            <dt className="w-56 text-soft">{f.kind === 'licence' ? 'Licence file' : f.kind === 'archive' ? 'Archive' : 'Config file'}, revision {f.revision}</dt>
            <dd>
              <a href={at + f.id} download={f.name} className="font-mono text-accent underline">{f.name}</a>
              {f.old && <span className="ml-2 font-medium text-wrong"><span aria-hidden className="mr-1">✕</span>older than the registration</span>}
              {f.ends && <span className="ml-2 text-xs text-soft">ends <time dateTime={f.ends}>{f.ends.slice(0, 10)}</time></span>}
            </dd>
          </div>
        ))}
        {i.digests?.map((d) => <div key={d} className="flex flex-wrap gap-x-3 py-1"><dt className="w-56 text-soft">Digest registered</dt><dd className="font-mono text-xs break-all">{d}<Copy text={d} what="the digest" /></dd></div>)}
      </dl>
    </div>
  )
}

function KeysSection({ registration: g }: { registration: Registration }) {
  const change = useChange(({ method, path, body }: { method: string; path: string; body?: unknown }) => call<Registration>(method, `/v1/registrations/${g.id}/keys${path}`, body))
  if (g.keys.length === 0) return null
  const state = (k: Key) => (k.revoked ? `revoked ${k.revoked.slice(0, 10)}` : k.ends ? `ends ${k.ends.slice(0, 10)}` : k.current ? 'in use' : k.label ? 'valid' : 'exchanged, still valid')
  return (
    <Section title="Keys">
      <ul className={`${box} divide-y divide-line`}>
        {g.keys.map((k) => (
          <li key={k.id} className="flex flex-wrap items-baseline gap-x-3 px-3 py-2">
            <span className="font-medium">{k.title}{k.label && `, ${k.label}`}</span>
            {k.value && <span><Masked value={k.value} what={k.title} /></span>}
            <span className="text-soft">{state(k)}</span>
            <span className="ml-auto flex gap-2">
              {k.current && !k.revoked && <Act plain busy={change.isPending} onClick={() => { change.mutate({ method: 'POST', path: '', body: { name: k.name, platform: k.platform ?? '', identifier: k.identifier ?? '' } }) }}>exchange</Act>}
              {!k.current && !k.revoked && <Act plain busy={change.isPending} onClick={() => { change.mutate({ method: 'POST', path: `/${k.id}/revoke`, body: {} }) }}>revoke</Act>}
              {k.revoked && <Act plain busy={change.isPending} onClick={() => { change.mutate({ method: 'DELETE', path: `/${k.id}` }) }}>delete</Act>}
            </span>
          </li>
        ))}
      </ul>
      {change.error && <Waiting error={change.error} />}
    </Section>
  )
}

function DutiesSection({ registration: g }: { registration: Registration }) {
  const confirm = useChange(({ duty, done }: { duty: string; done: boolean }) => call<Registration>('PUT', `/v1/registrations/${g.id}/duties/${duty}`, { done }))
  if (g.duties.length === 0) return null
  return (
    <Section title="Duties" aside="what only a person can do">
      <ul className={`${box} divide-y divide-line`}>
        {g.duties.map((d) => (
          <li key={d.id} className="px-3 py-2">
            <label className="flex items-baseline gap-2"><input type="checkbox" checked={!!d.done} disabled={confirm.isPending} onChange={() => { confirm.mutate({ duty: d.id, done: !d.done }) }} /><span>{d.title}</span></label>
            <p className="pl-6 text-xs text-soft">{d.done ? <>{d.by}, <Ago at={d.done} />{d.note && `: ${d.note}`}</> : `before ${d.before}`}</p>
          </li>
        ))}
      </ul>
      {confirm.error && <Waiting error={confirm.error} />}
    </Section>
  )
}

function GivenSection({ registration: g }: { registration: Registration }) {
  const rows: [string, string, string][] = [
    ...Object.entries(g.answers).map(([k, v]): [string, string, string] => [k, v, '']),
    ...g.identities.flatMap((i) => Object.entries(i.answers ?? {}).map(([k, v]): [string, string, string] => [`${k} of ${i.identifier}, ${platformName(i.platform)}`, v, i.sources?.[k] ?? ''])),
    ...g.redirects.map((u): [string, string, string] => ['redirect URI', u, '']),
    ...g.berths.map((b): [string, string, string] => ['berth', b.name, b.environment ?? '']),
  ]
  if (rows.length === 0) return null
  return (
    <Section title="Given to it" aside="in its form, and where it was found">
      <dl className={`${box} divide-y divide-line`}>
        {rows.map(([k, v, from], n) => (
          <div key={n} className="px-3 py-1.5">
            <dt className="text-xs text-soft">{k}{from && ` · ${from}`}</dt>
            <dd className="font-mono text-xs break-all">{v}<Copy text={v} what={k} /></dd>
          </div>
        ))}
      </dl>
    </Section>
  )
}

/** How each placement stands in the tree, as last reported; and what has to be true, for whoever places by hand. */
function PlacementsSection({ registration: g, sheet }: { registration: Registration; sheet: Sheet }) {
  const report = useReport(g.app)
  if (report.data === undefined) return <Waiting error={report.error} />
  const reported = report.data?.placements?.filter((p) => p.service === g.service && (!p.environment || p.environment === g.environment)) ?? []
  const wanted = (sheet.placements ?? []).filter((p) => !p.when || g.features.includes(p.when))
  if (wanted.length === 0) return null
  return (
    <Section title="Placements" aside={report.data && reported.length > 0 ? <>in the tree, as reported <Ago at={report.data.at} /></> : 'no tree has reported any yet'}>
      {reported.length > 0 && (
        <ul className={`${box} divide-y divide-line`}>
          {reported.map((p) => (
            <li key={p.placement + p.site + (p.variants ?? []).join()} className="grid gap-x-4 px-3 py-2 lg:grid-cols-[15rem_1fr_13rem]">
              <span><span className="font-medium">{p.title}</span> <span className="font-mono text-xs text-soft">{p.placement}</span></span>
              <span className="min-w-0">
                {p.file && <span className="font-mono text-xs [overflow-wrap:anywhere]">{p.file}{p.line ? `:${p.line}:${p.column}` : ''}</span>}
                {!p.good && p.detail && <span className="block text-xs [overflow-wrap:anywhere]">{p.detail}</span>}
                <span className="block text-xs text-soft">{[p.identity, (p.variants ?? []).join(', ')].filter(Boolean).join(' · ') || p.site}</span>
              </span>
              <PlacementState placement={p} />
            </li>
          ))}
        </ul>
      )}
      <details className="mt-3 text-sm">
        <summary className="cursor-pointer text-accent">Placing by hand: what has to be true, and why</summary>
        <ol className="mt-2 list-decimal space-y-2 pl-6">
          {wanted.map((p) => (
            <li key={p.id}>
              <span className="font-medium">{p.place}</span>{p.platform && `, ${platformName(p.platform)}`}{p.in && `, in ${p.in.join(', ')}`}: {p.why}
              {p.with && <dl className="mt-1 grid gap-x-3 font-mono text-xs sm:grid-cols-[8rem_1fr]">{Object.entries(p.with).map(([k, v]) => <div key={k} className="contents"><dt className="text-soft">{k}</dt><dd className="[overflow-wrap:anywhere]">{v}</dd></div>)}</dl>}
            </li>
          ))}
        </ol>
        <p className="mt-2 text-soft">In the tree: <code className="font-mono text-ink">ligare place {g.service}{g.environment && ` --environment ${g.environment}`} --guide</code> says the same with the values and places of that tree.</p>
      </details>
    </Section>
  )
}

function PlacementState({ placement: p }: { placement: Placement }) {
  const [mark, colour] = p.good ? ['●', 'text-fine'] : p.state === 'not looked' ? ['○', 'text-soft'] : p.state === 'absent' ? ['▲', 'text-wait'] : ['✕', 'text-wrong']
  return <span className={`${colour} lg:text-right`}><span aria-hidden className="mr-1">{mark}</span>{p.state}</span>
}

function OpenSection({ registration: g }: { registration: Registration }) {
  const connections = useConnections(g.app)
  const mine = connections.data?.items.filter((x) => x.registration === g.id || x.supplier === g.id) ?? []
  if (mine.length === 0) return null
  return <Section title="Connections" aside="to and from other services"><Connections connections={mine} /></Section>
}

function CatalogueSection({ id }: { id: string }) {
  const catalogue = useCatalogue(id, true)
  if (!catalogue.data) return <Waiting error={catalogue.error} />
  return (
    <Section title="Catalogue" aside="what shall be sold beside what the service has">
      {catalogue.data.items.length === 0 ? <p className="text-sm text-soft">Nothing is sold yet. Run <code className="font-mono text-ink">ligare catalogue SERVICE --file FILE --send</code>.</p> : (
        <ul className={`${box} divide-y divide-line`}>
          {catalogue.data.items.map((l) => {
            const i = l.wanted ?? l.there
            const fine = l.say === 'agrees'
            return (
              <li key={l.product} className="flex flex-wrap items-baseline gap-x-4 px-3 py-2">
                <span className="font-mono">{l.product}</span><span>{i?.title}</span><span className="text-soft">{i?.kind}{i?.group && `, group ${i.group}`}</span><span>{i?.price}</span>
                <span className={`ml-auto ${fine ? 'text-fine' : 'text-wrong'}`}><span aria-hidden className="mr-1">{fine ? '●' : '✕'}</span>{l.say}</span>
              </li>
            )
          })}
        </ul>
      )}
    </Section>
  )
}

function BuilderSection({ id }: { id: string }) {
  const builder = useBuilder(id, true)
  if (!builder.data) return <Waiting error={builder.error} />
  const { fields, builds, stale } = builder.data
  return (
    <Section title="Builder" aside={stale ? '▲ build again: no build holds what the fields say now' : undefined}>
      <ul className={`${box} divide-y divide-line`}>
        {fields.map((f) => (
          <li key={f.id} className="grid gap-x-4 px-3 py-2 sm:grid-cols-[16rem_1fr_1fr_10rem]">
            <span>{f.group && <span className="text-soft">{f.group}: </span>}{f.title}</span>
            <span className="font-mono break-all">{f.value || <span className="font-sans text-soft">empty</span>}</span>
            <span className="font-mono break-all">{f.belongs && <>{f.belongs}<Copy text={f.belongs} what={f.title} /></>}</span>
            <span className="text-soft">{f.say}</span>
          </li>
        ))}
      </ul>
      <ul className="mt-2 text-sm">{builds.map((b) => <li key={b.id}>built <Ago at={b.at} />: {platformName(b.platform)} <span className="font-mono">{b.identifier}</span>{b.old && b.old.length > 0 && <span className="text-wrong"> ✕ before {b.old.join(', ')} changed</span>}</li>)}</ul>
    </Section>
  )
}

/** Values and files of a service that is registered with by hand. */
function RecordForm({ registration: g, sheet }: { registration: Registration; sheet: Sheet }) {
  const [values, setValues] = useState<Record<string, string>>({})
  const [files, setFiles] = useState<{ name: string; content: string }[]>([])
  const record = useChange((body: unknown) => call<Registration>('POST', `/v1/registrations/${g.id}/recorded`, body))
  const wanted = (sheet.issues.values ?? []).flatMap((v) => (v.per === 'identity' ? g.identities.map((i) => ({ ...v, platform: i.platform, identifier: i.identifier })) : [{ ...v, platform: '', identifier: '' }]))
  const send = () => {
    const list = wanted.filter((v) => values[v.id + v.platform + v.identifier]).map((v) => ({ name: v.id, platform: v.platform, identifier: v.identifier, value: values[v.id + v.platform + v.identifier] }))
    record.mutate({ values: list, files }, { onSuccess: () => { setValues({}); setFiles([]) } })
  }
  const load = async (list: FileList | null) => {
    const out = []
    for (const f of list ?? []) {
      let text = ''
      for (const b of new Uint8Array(await f.arrayBuffer())) text += String.fromCharCode(b)
      out.push({ name: f.name, content: btoa(text) })
    }
    setFiles(out)
  }
  return (
    <Section title="Record by hand" aside={g.wanting?.length ? `still missing: ${g.wanting.join(', ')}` : 'whatever was downloaded or exchanged since'}>
      <div className={`${box} p-4`}>
        {wanted.map((v) => {
          const name = v.id + v.platform + v.identifier
          return (
            <label key={name} className="mb-2 grid gap-x-4 sm:grid-cols-[18rem_1fr]">
              <span>{v.title}{v.identifier && <span className="block text-xs text-soft [overflow-wrap:anywhere]">{platformName(v.platform)} {v.identifier}</span>}{v.exposure === 'server' && <span className="text-xs text-soft"> · kept on the server</span>}</span>
              <input type={v.exposure === 'server' ? 'password' : 'text'} autoComplete="off" spellCheck={false} value={values[name] ?? ''} onChange={(e) => { setValues({ ...values, [name]: e.target.value }) }} className="rounded border border-line bg-paper px-2 py-1 font-mono" />
            </label>
          )
        })}
        {!!sheet.issues.files?.length && <label className="mb-3 grid gap-x-4 sm:grid-cols-[18rem_1fr]"><span>Files: {sheet.issues.files.map((f) => f.name).join(', ')}</span><input type="file" multiple className="file:mr-3 file:rounded file:border file:border-line file:bg-wash file:px-3 file:py-1" onChange={(e) => { void load(e.target.files) }} /></label>}
        {record.error && <Waiting error={record.error} />}
        {record.data?.notes?.map((n) => <p key={n} className="text-xs text-soft">{n}</p>)}
        <Act busy={record.isPending} onClick={send}>Record</Act>
      </div>
    </Section>
  )
}
