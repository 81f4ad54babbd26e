// What crosses the wire, and the one function that fetches it. The shapes follow /openapi.json.

export interface Problem { title: string; status: number; detail?: string; remedy?: string }
export interface Me { team: string; name: string; kind: string; role: string }
export interface Identity { id: string; platform: string; identifier: string; displayName?: string }
export interface App { name: string; title: string; environments: string[]; identities: Identity[] }
export interface IssuedValue { name: string; title: string; exposure: 'client' | 'server'; value?: string }
export interface Registered { platform: string; identifier: string; values: IssuedValue[]; file?: string; digests?: string[] | null }
export interface Registration {
  id: string; app: string; service: string; environment: string; state: string; revision: number
  features: string[]; identities: Registered[]; values: IssuedValue[]; problem?: string; remedy?: string
}
export interface Cell { value: string; where?: string; note?: string }
export interface Row {
  service: string; environment: string; platform: string; identity: string; variants?: string[]
  what: string; cells: Record<string, Cell | undefined>; agrees: boolean; odd?: string[]
}
export interface LineUp { columns: string[]; rows: Row[]; at?: string }
export interface Finding { rule: string; severity: 'error' | 'warning' | 'note'; message: string; variant: string; file: string; line: number; column: number; fingerprint: string }
export interface Report { findings: Finding[]; looked: number; notLooked: number; at: string }
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
export interface Overview {
  services: { service: string; title: string }[]
  apps: { name: string; title: string; cells: { service: string; state: CellState; say: string; checked?: string; lastSighting?: string }[] }[]
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
