// What crosses the wire, and the one function that fetches it. The shapes follow /openapi.json.

export interface Problem { title: string; status: number; detail?: string; remedy?: string }
export interface Me { team: string; name: string; kind: string; role: string }
export interface Identity { id: string; platform: string; identifier: string; displayName?: string }
export interface App { name: string; title: string; environments: string[]; identities: Identity[] }
export type Exposure = 'client' | 'server'
export interface IssuedValue { name: string; title: string; exposure: Exposure; value?: string; by?: string; instead?: string }
export interface IssuedFile { id: string; name: string; kind: string; revision: number; old: boolean; fetched: string; ends?: string }
export interface Registered {
  platform: string; identifier: string; published?: boolean; values: IssuedValue[]; files: IssuedFile[]; digests?: string[] | null
  answers?: Record<string, string>; sources?: Record<string, string>
}
export interface Key {
  id: string; name: string; title: string; exposure: Exposure; platform?: string; identifier?: string; label?: string; value?: string
  current: boolean; issued: string; ends?: string; revoked?: string
}
export interface Duty { registration: string; service: string; environment?: string; id: string; title: string; before: string; done?: string; by?: string; note?: string }
export interface Registration {
  id: string; app: string; service: string; title: string; scope: string; environment: string; state: string; remoteId?: string; revision: number
  features: string[]; answers: Record<string, string>; identities: Registered[]; values: IssuedValue[]; keys: Key[]; redirects: string[]
  berths: { name: string; environment?: string }[]; duties: Duty[]; byHand?: boolean; wanting?: string[]; problem?: string; remedy?: string; notes?: string[]; looked?: string; created: string
}
export interface Connection {
  slot: string; title: string; takes: string; registration: string; service: string; environment?: string; supplier?: string; from?: string; fromTitle?: string; fromWhere?: string
  value?: string; exposure?: Exposure; state: string; say: string; remedy?: string; choices?: string[]; needed: boolean
}
export interface PlanLine {
  ask: string; title: string; help?: string; platform?: string; identifier?: string; value?: string; given: boolean; secret?: boolean; from?: string; needed: boolean
  kind: 'text' | 'choice' | 'secret' | 'file' | 'image' | 'found'; choices?: string[]; example?: string; problem?: string; remedy?: string
}
export interface Plan {
  title: string; environment?: string; standing?: string; identities: { platform: string; identifier: string; standing: boolean }[]; lines: PlanLine[]; redirects: PlanLine[]
  features: { id: string; title: string; on: boolean; asked: boolean }[]; duties: { id: string; title: string }[]; byHand?: string; ready: boolean
}
export interface IdentityAnswers { platform: string; identifier: string; answers: Record<string, string> }
export interface Register { app: string; service: string; environment: string; answers: Record<string, string>; identities: IdentityAnswers[]; features: string[] }
export interface Ask { id: string; title: string; help?: string; from: string; per?: string; platform?: string; when?: string; optional?: boolean; choices?: string[]; grammar?: string; example?: string }
export interface Sheet {
  service: string; title: string; kind: string; version: string; about?: string; platforms: string[]; scope: string; asks: Ask[] | null
  features: { id: string; title: string; requires?: string[] }[] | null
  redirects?: { allow: { scheme: string; why?: string }[]; from?: string[] }
  issues: { values: { id: string; title: string; exposure: Exposure; per?: string; pattern?: string; keys?: string; supplies?: string; env?: string; instead?: string }[] | null; files: { id: string; name: string; platform?: string; format: string; kind?: string; read?: Record<string, string> }[] | null }
  berths?: { title: string; grammar?: string }; catalogue?: { kinds: string[] }; builder?: { fields: { id: string; title: string; group?: string; takes?: string }[] }
  placements: { id: string; platform: string; place: string; with?: Record<string, string>; when?: string; in?: string[]; why: string }[] | null
  constraints: { platform?: string; of: string; minimum?: string; below?: string; together?: string[]; why: string }[] | null
  messages: { code?: string; text?: string; cause: string; remedy: string }[] | null
  proof: { title: string; late: string; log?: string; silent?: string[] }; duties: { id: string; title: string; before?: string }[] | null
  connector: { protocol: string; lostAnswer?: string; lookFor?: string; page?: string }; digest: string
}
export interface Service { service: string; title: string; kind: string; digest: string; own: boolean; protocol: string; connected: boolean; address?: string; sheet?: Sheet; source?: string }
export interface Item { product: string; kind: string; title: string; group?: string; price?: string; active: boolean }
export interface Catalogue { items: { product: string; wanted?: Item; there?: Item; say: string }[]; agrees: boolean }
export interface Builder {
  fields: { id: string; title: string; group?: string; value: string; belongs?: string; from?: string; rebuild: boolean; say?: string }[]
  builds: { id: string; at: string; platform: string; identifier: string; old?: string[] }[]; stale: boolean
}
export interface Cell { value: string; where?: string; note?: string }
export interface Row {
  service: string; environment: string; platform: string; identity: string; variants?: string[]
  what: string; cells: Record<string, Cell | undefined>; agrees: boolean; odd?: string[]
}
export interface LineUp { columns: string[]; rows: Row[]; at?: string }
export interface Finding { rule: string; severity: 'error' | 'warning' | 'note'; message: string; variant: string; file: string; line: number; column: number; fix?: string; fixable?: boolean; fingerprint: string }
export interface Placement {
  service: string; environment?: string; placement: string; title: string; why: string; platform?: string; identity?: string; site: string; variants: string[] | null
  state: string; good: boolean; file?: string; line?: number; column?: number; detail?: string
}
export interface CheckRun { at: string; commit?: string; errors: number; warnings: number; notes: number }
export interface FindingState { finding: Finding; title: string; why: string; first: string; firstCommit?: string; last: string; gone?: string; goneCommit?: string; times: number; new: boolean }
export interface Findings {
  branches: { branch: string; commit?: string; at: string; errors: number; warnings: number; notes: number; notLooked: number }[]
  branch: string; commit?: string; at: string; passed?: CheckRun; checks: CheckRun[]; items: FindingState[]
}
export interface Report { findings: Finding[]; placements: Placement[] | null; looked: number; notLooked: number; at: string }
export interface Sighting { id: string; app: string; service: string; environment: string; at: string; platform: string; identifier: string; kind: string; facts: Record<string, string> }
export interface SurveyedFact { name: string; value?: string; possible?: string[]; unresolved?: string; place?: string; via?: string[] }
export interface SurveyedVariant { platform: string; site: string; variant: string; layout: string; identity?: string; environment?: string; facts: SurveyedFact[] }
export interface Survey { at?: string; variants: SurveyedVariant[] }
export type Digests = Record<'sha1Colons' | 'sha1Hex' | 'sha1Base64' | 'sha1Base64Url' | 'sha256Colons' | 'sha256Hex' | 'sha256Base64' | 'sha256Base64Url' | 'md5Colons', string>
export interface SignerNeed { service: string; title: string; environment?: string; identifier: string; form: string; value: string; registered: boolean; feature?: string }
export interface Signer {
  id: string; name: string; role: string; owner?: string; machine?: string; subject: string; notAfter: string
  keyAlgorithm: string; keySize: number; signatureAlgorithm: string; warnings?: string[]; digests: Digests; needs: SignerNeed[]
}
export type CellState = 'none' | 'unknown' | 'error' | 'warning' | 'silent' | 'working'
export interface OverviewCell { service: string; state: CellState; say: string; checked?: string; lastSighting?: string }
export interface Overview {
  services: { service: string; title: string }[]
  apps: { name: string; title: string; cells: OverviewCell[] }[]
}
export interface PackageFinding {
  rule: string; title: string; severity: Finding['severity']; message: string; file?: string; line?: number; expected?: string; actual?: string; from?: string; why: string; fix: string; consequences?: string[]
}
export interface Certificate { subject?: string; issuer?: string; notBefore?: string; notAfter?: string; keyAlgorithm?: string; keySize?: number; digests: Digests; problem?: string }
export interface PackageSigner { scheme: string; file?: string; minSdk?: number; maxSdk?: number; certificates: Certificate[]; lineage?: (Certificate & { abilities: string[] })[]; verified?: boolean; problem?: string }
export interface Text { config?: string; value: string }
export interface AndroidFacts {
  applicationId: string; minSdk?: string; targetSdk?: string; label?: Text[]; debuggable: boolean; launcherActivity?: string; applicationClass?: string; permissions: { name: string; maxSdk?: string }[]
  metadata: { name: string; value: string; type: string; resource?: string; lost?: boolean }[]; urlSchemes?: string[]; appLinks?: string[]; modules?: string[]; queries: { packages?: string[]; providers?: string[] }
}
export interface BundleFacts {
  path: string; kind: string; bundleId: string; displayName?: string; version?: string; build?: string; minimumOs?: string; urlSchemes?: string[]; querySchemes?: string[]; backgroundModes?: string[]; usageDescriptions?: Record<string, string>
  profile?: { name: string; kind: string; team?: string[]; teamName?: string; ends?: string; devices?: string[]; allDevices: boolean }
  signature?: { identifier: string; team?: string; entitlements?: Record<string, unknown>; certificates?: Certificate[]; slices: { architecture: string; signed: boolean }[] }; problems?: string[]
}
export interface PackageFacts {
  android?: AndroidFacts; ios?: BundleFacts[]; signing?: { signers: PackageSigner[]; verified?: boolean; note?: string }; notes?: string[]
  files: { path: string; service: string; problem?: string; reads: { name: string; value: string }[] | null }[]
}
export type Keep = 'nothing' | 'facts' | 'everything'
export interface Package {
  id?: string; name: string; size: number; sha256: string; kind: string; platform: string; identifier: string; version?: string; app?: string; environment?: string; at: string; by?: string; kept: Keep
  errors?: number; warnings?: number; notes?: number; facts?: PackageFacts; findings?: PackageFinding[]; notLooked?: string[]; lineUp?: LineUp
}
export interface Page<T> { items: T[]; next?: string }

/** A server's no, with what to do about it. */
export class Refused extends Error {
  readonly problem: Problem
  constructor(problem: Problem) {
    super(problem.detail ?? problem.title)
    this.problem = problem
  }
}

export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const init: RequestInit = { method, credentials: 'same-origin' }
  if (body !== undefined) {
    init.body = JSON.stringify(body)
    init.headers = { 'Content-Type': 'application/json' }
  }
  const answer = await fetch(path, init)
  if (!answer.ok) {
    const fallback: Problem = { title: `The server answered ${answer.status}`, status: answer.status }
    const isProblem = answer.headers.get('Content-Type')?.includes('problem+json')
    throw new Refused(isProblem ? ((await answer.json()) as Problem) : fallback)
  }
  const text = await answer.text()
  return (text ? JSON.parse(text) : undefined) as T
}

/** Sends a file as it is, and says how much of it went. Not with fetch, which does not say that. */
export function send<T>(path: string, file: Blob, sent: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest()
    request.open('POST', path)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.upload.onprogress = (event) => { if (event.lengthComputable) sent(event.loaded / event.total) }
    request.onerror = () => { reject(new Refused({ title: 'The package could not be sent', status: 0, remedy: 'Check that the server runs, and that the package is not larger than it takes.' })) }
    request.onload = () => {
      const isProblem = request.getResponseHeader('Content-Type')?.includes('problem+json')
      if (request.status < 300) resolve(JSON.parse(request.responseText) as T)
      else reject(new Refused(isProblem ? (JSON.parse(request.responseText) as Problem) : { title: `The server answered ${request.status}`, status: request.status }))
    }
    request.send(file)
  })
}
