import type { Finding } from '../data/api'

const look = { error: { mark: '✕', tone: 'text-wrong' }, warning: { mark: '▲', tone: 'text-accent' }, note: { mark: 'i', tone: 'text-wait' } }

/** How grave a finding is, in a sign, a word and a colour. */
export function SeverityMark({ severity }: { severity: Finding['severity'] }) {
  const s = look[severity]
  return <><span aria-hidden className={`mr-2 font-bold ${s.tone}`}>{s.mark}</span><span className={`font-medium ${s.tone}`}>{severity}</span></>
}
