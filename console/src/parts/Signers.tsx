import type { Digests, Signer, SignerNeed } from '../data/api'
import { Copy } from './parts'

const encodings: [keyof Digests, string][] = [
  ['sha1Colons', 'SHA-1, hex with colons'], ['sha1Hex', 'SHA-1, hex'], ['sha1Base64', 'SHA-1, Base64'], ['sha1Base64Url', 'SHA-1, Base64url'],
  ['sha256Colons', 'SHA-256, hex with colons'], ['sha256Hex', 'SHA-256, hex'], ['sha256Base64', 'SHA-256, Base64'], ['sha256Base64Url', 'SHA-256, Base64url'],
  ['md5Colons', 'MD5, hex with colons'],
]

function Need({ need }: { need: SignerNeed }) {
  const state = need.registered ? { mark: '●', tone: 'text-fine', say: 'has it' }
    : need.feature ? { mark: '–', tone: 'text-soft', say: `once ${need.feature} is switched on` }
      : { mark: '✕', tone: 'text-wrong', say: 'does not have it' }
  return (
    <li className="flex flex-wrap items-baseline gap-x-2 py-0.5">
      <span className={`font-medium ${state.tone}`}><span aria-hidden className="mr-1.5 inline-block w-4 text-center">{state.mark}</span>{need.title}{need.environment && `, ${need.environment}`} {state.say}</span>
      <span className="font-mono text-xs break-all text-soft">{need.identifier}</span>
      <span className="text-xs text-soft">wants {need.form}<Copy text={need.value} what={`the digest for ${need.title} (${need.form})`} /></span>
    </li>
  )
}

/** A certificate's digests in every encoding. */
export function Encodings({ digests, of }: { digests: Digests; of: string }) {
  return (
    <dl className="mt-3">
      {encodings.map(([key, name]) => (
        <div key={key} className="grid grid-cols-[11rem_1fr_auto] items-baseline gap-x-3 border-b border-line/60 py-1 last:border-0 max-sm:grid-cols-[1fr_auto]">
          <dt className="text-soft max-sm:col-span-2">{name}</dt>
          <dd className="font-mono text-xs break-all">{digests[key]}</dd>
          <dd><Copy text={digests[key]} what={`${name} of ${of}`} /></dd>
        </div>
      ))}
    </dl>
  )
}

function SignerCard({ signer: s }: { signer: Signer }) {
  return (
    <article className="rounded border border-line bg-sheet p-4 text-sm">
      <h3 className="font-semibold">{s.name}</h3>
      <p className="text-soft">{[s.role, s.owner && `of ${s.owner}`, s.machine && `on ${s.machine}`].filter(Boolean).join(' ')}</p>
      <p className="mt-1 text-xs break-all text-soft">{s.subject} · {s.keyAlgorithm}, {s.keySize} bits · {s.signatureAlgorithm} · valid until <time dateTime={s.notAfter}>{s.notAfter.slice(0, 10)}</time></p>
      {s.warnings?.map((w) => <p key={w} className="mt-1 text-xs"><span aria-hidden className="mr-1.5 font-bold text-accent">▲</span>{w}</p>)}
      <Encodings digests={s.digests} of={s.name} />
      <h4 className="mt-3 text-xs font-semibold">Services that ask for its digest</h4>
      {s.needs.length === 0 ? <p className="text-xs text-soft">None that it is registered with.</p> : <ul className="text-sm">{s.needs.map((n) => <Need key={[n.service, n.environment, n.identifier, n.form].join(' ')} need={n} />)}</ul>}
    </article>
  )
}

/** The certificates that sign an app's builds, in every encoding. */
export function Signers({ signers, app }: { signers: Signer[]; app: string }) {
  if (signers.length === 0) return <p className="text-sm text-soft">None yet. Run <code className="font-mono text-ink">ligare signer add --app {app}</code> on each machine that builds it.</p>
  return <div className="grid gap-4 xl:grid-cols-2">{signers.map((s) => <SignerCard key={s.id} signer={s} />)}</div>
}
