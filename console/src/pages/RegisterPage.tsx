import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'

import { call, type App, type IdentityAnswers, type PlanLine, type Register, type Registration, type Sheet } from '../data/api'
import { useApp, useChange, usePlan, useService } from '../data/hooks'
import { Act, platformName, Section, Waiting } from '../parts/parts'

/** Registers an app: every answer as it would be sent, with where it was found; nothing is sent before the last button. */
export function RegisterPage() {
  const { app: appName = '', service: serviceName = '' } = useParams()
  const app = useApp(appName)
  const service = useService(serviceName)
  if (!app.data || !service.data?.sheet) return <Waiting error={app.error ?? service.error} />
  return (
    <>
      <p className="text-sm text-soft"><Link to={`/apps/${appName}`} className="hover:underline">{app.data.title}</Link> /</p>
      <h1 className="mb-1 text-xl font-semibold">Register with {service.data.title}</h1>
      <p className="mb-5 text-sm text-soft">{service.data.kind} · <Link to={`/services/${serviceName}`} className="underline">its sheet</Link></p>
      {!service.data.connected && service.data.protocol !== 'by-hand' && <p role="alert" className="mb-5 rounded border border-wrong bg-wrongwash p-3 text-sm">The team has no account with {service.data.title} yet. Open one with <code className="font-mono">ligare service connect {serviceName} --address URL</code>.</p>}
      <Wizard app={app.data} sheet={service.data.sheet} />
    </>
  )
}

interface Choice { environment: string; identities: string[]; features: string[]; answers: Record<string, string> }

const key = (i: { platform: string; identifier: string }) => `${i.platform} ${i.identifier}`

function Wizard({ app, sheet }: { app: App; sheet: Sheet }) {
  const served = app.identities.filter((i) => sheet.platforms.includes(i.platform))
  const [choice, setChoice] = useState<Choice>({ environment: sheet.scope === 'environment' ? (app.environments.at(-1) ?? '') : '', identities: sheet.scope === 'identity' ? served.slice(0, 1).map(key) : served.map(key), features: [], answers: {} })
  const wish = wishOf(app, sheet, choice)
  const plan = usePlan(wish, wish.identities.length > 0)
  const go = useNavigate()
  const register = useChange((w: Register) => call<Registration>('POST', '/v1/registrations', w))
  const send = () => { register.mutate(wish, { onSuccess: (g) => { void go(`/registrations/${g.id}`) } }) }
  const toggle = (list: string[], v: string) => (list.includes(v) ? list.filter((x) => x !== v) : [...list, v])
  return (
    <>
      <div className="grid gap-x-8 lg:grid-cols-2">
        <Section title="What it covers">
          {sheet.scope === 'environment' && (
            <label className="mb-2 flex items-center gap-2 text-sm">Environment
              <select className="rounded border border-line bg-sheet px-2 py-1" value={choice.environment} onChange={(e) => { setChoice({ ...choice, environment: e.target.value }) }}>{app.environments.map((e) => <option key={e}>{e}</option>)}</select>
            </label>
          )}
          <fieldset className="text-sm"><legend className="sr-only">Identities</legend>
            {served.map((i) => (
              <label key={key(i)} className="flex items-baseline gap-2 py-0.5">
                <input type={sheet.scope === 'identity' ? 'radio' : 'checkbox'} name="identity" checked={choice.identities.includes(key(i))} onChange={() => { setChoice({ ...choice, identities: sheet.scope === 'identity' ? [key(i)] : toggle(choice.identities, key(i)) }) }} />
                <span className="w-16 text-soft">{platformName(i.platform)}</span><span className="font-mono break-all">{i.identifier}</span>
              </label>
            ))}
            {served.length === 0 && <p className="text-soft">The app has no identity that {sheet.title} serves.</p>}
          </fieldset>
        </Section>
        {!!sheet.features?.length && (
          <Section title="Features">
            <fieldset className="text-sm"><legend className="sr-only">Features</legend>
              {plan.data?.features.map((f) => (
                <label key={f.id} className="flex items-baseline gap-2 py-0.5">
                  <input type="checkbox" checked={f.on || choice.features.includes(f.id)} disabled={f.on} onChange={() => { setChoice({ ...choice, features: toggle(choice.features, f.id) }) }} />{f.title}{f.on && <span className="text-xs text-soft">on</span>}
                </label>
              ))}
            </fieldset>
          </Section>
        )}
      </div>
      {plan.data ? (
        <Section title={`What goes to ${sheet.title}`} aside="exactly as it is sent; nothing was sent yet">
          <Lines lines={[...plan.data.lines, ...plan.data.redirects]} answers={choice.answers} change={(name, v) => { setChoice({ ...choice, answers: { ...choice.answers, [name]: v } }) }} />
          {plan.data.duties.map((d) => <p key={d.id} className="mt-2 text-sm"><span aria-hidden className="mr-1.5 font-bold text-accent">▲</span>Before: {d.title}</p>)}
          {plan.data.byHand && <p className="mt-2 text-sm">{plan.data.byHand}</p>}
        </Section>
      ) : <Waiting error={plan.error} />}
      {plan.error && plan.data && <Waiting error={plan.error} />}
      {register.error && <div className="mb-4"><Waiting error={register.error} /></div>}
      <Act busy={!plan.data?.ready || register.isPending} onClick={send}>{plan.data?.byHand ? 'Record that it is registered by hand' : plan.data?.standing ? `Bring the registration at ${sheet.title} to this` : `Register with ${sheet.title}`}</Act>
    </>
  )
}

function wishOf(app: App, sheet: Sheet, c: Choice): Register {
  const answers: Record<string, string> = {}
  const identities: IdentityAnswers[] = app.identities.filter((i) => c.identities.includes(key(i))).map((i) => ({ platform: i.platform, identifier: i.identifier, answers: {} }))
  for (const [name, v] of Object.entries(c.answers)) {
    const [ask = '', ...of] = name.split(' ')
    if (v === '') continue
    if (of.length === 0) answers[ask] = v
    else for (const i of identities) if (key(i) === of.join(' ')) i.answers[ask] = v
  }
  return { app: app.name, service: sheet.service, environment: c.environment, answers, identities, features: c.features }
}

const nameOf = (l: PlanLine) => (l.platform && l.identifier ? `${l.ask} ${l.platform} ${l.identifier}` : l.ask)

function Lines({ lines, answers, change }: { lines: PlanLine[]; answers: Record<string, string>; change: (name: string, v: string) => void }) {
  const shown = lines.filter((l) => l.given || l.needed || l.problem || l.kind !== 'found')
  return (
    <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">
      {shown.map((l) => (
        <li key={nameOf(l) + (l.value ?? '')} className="grid gap-x-4 gap-y-1 px-3 py-2 sm:grid-cols-[16rem_1fr_15rem]">
          <div>{l.title}{l.identifier && <div className="text-xs break-all text-soft">{platformName(l.platform ?? '')} {l.identifier}</div>}</div>
          <div>
            <Field line={l} value={answers[nameOf(l)]} change={(v) => { change(nameOf(l), v) }} />
            {l.problem && <p className="mt-1 text-xs text-wrong"><span aria-hidden className="mr-1 font-bold">✕</span>{l.problem}{l.help && ` — ${l.help}`}</p>}
          </div>
          <div className="text-xs break-all text-soft">{l.from && (l.from.startsWith('given') ? l.from : <>from: {l.from}</>)}</div>
        </li>
      ))}
    </ul>
  )
}

const picker = 'text-sm file:mr-3 file:rounded file:border file:border-line file:bg-wash file:px-3 file:py-1'

function Field({ line: l, value, change }: { line: PlanLine; value: string | undefined; change: (v: string) => void }) {
  const style = 'w-full rounded border border-line bg-paper px-2 py-1 font-mono text-sm'
  if (l.kind === 'choice') return <select aria-label={l.title} className={style} value={value ?? l.value ?? ''} onChange={(e) => { change(e.target.value) }}><option value="" disabled>choose…</option>{l.choices?.map((c) => <option key={c}>{c}</option>)}</select>
  if (l.kind === 'image' || l.kind === 'file') return <><input type="file" aria-label={l.title} className={picker} accept={l.kind === 'image' ? 'image/png' : undefined} onChange={(e) => { void read(e.target.files?.[0], l.kind === 'image').then(change) }} />{l.value && <span className="ml-2 text-soft">{l.value}</span>}</>
  if (l.kind === 'secret') return <textarea aria-label={l.title} rows={2} autoComplete="off" spellCheck={false} className={style} placeholder={l.given ? 'given; kept on the server' : ''} value={value ?? ''} onChange={(e) => { change(e.target.value) }} />
  if (l.kind === 'text') return <input aria-label={l.title} spellCheck={false} className={style} placeholder={l.example ? `for example ${l.example}` : ''} value={value ?? l.value ?? ''} onChange={(e) => { change(e.target.value) }} />
  return <span className="font-mono break-all">{l.secret && l.given ? <em className="font-sans">carried by the server, not shown</em> : l.value}</span>
}

async function read(file: File | undefined, image: boolean): Promise<string> {
  if (!file) return ''
  if (!image) return file.text()
  const bytes = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (const b of bytes) text += String.fromCharCode(b)
  return btoa(text)
}
