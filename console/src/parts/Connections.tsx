import { call, type Connection, type Registration } from '../data/api'
import { useChange } from '../data/hooks'
import { Act, Waiting } from './parts'

const marks: Record<string, { mark: string; tone: string }> = {
  saved: { mark: '●', tone: 'text-fine' }, open: { mark: '◐', tone: 'text-accent' }, old: { mark: '✕', tone: 'text-wrong' }, carried: { mark: '◐', tone: 'text-wait' },
  'no supplier': { mark: '–', tone: 'text-soft' }, 'several suppliers': { mark: '?', tone: 'text-wait' }, given: { mark: '●', tone: 'text-soft' },
}

function Line({ connection: x }: { connection: Connection }) {
  const carry = useChange((from: string | undefined) => call<Registration>('POST', `/v1/registrations/${x.registration}/carry`, from === undefined ? { slot: x.slot } : { slot: x.slot, from }))
  const m = marks[x.state] ?? { mark: '–', tone: 'text-soft' }
  return (
    <li className="px-3 py-2">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <span className="w-64 max-sm:w-full">{x.fromTitle ? <>{x.fromTitle}{x.fromWhere && `, ${x.fromWhere}`} <span className="font-mono text-xs text-soft">{x.value}</span></> : <span className="text-soft">nobody yet <span className="font-mono text-xs">{x.takes}</span></span>}</span>
        <span aria-label="into" className="text-soft">→</span>
        <span className="w-72 max-sm:w-full"><span className="font-medium">{x.service}{x.environment && `, ${x.environment}`}</span>: {x.title}</span>
        <span className={m.tone}><span aria-hidden className="mr-1.5 font-bold">{m.mark}</span>{x.state}{!x.needed && x.state !== 'saved' && ', not needed now'}</span>
        <span className="ml-auto flex gap-2">
          {(x.state === 'open' || x.state === 'old') && <Act plain busy={carry.isPending} onClick={() => { carry.mutate(undefined) }}>carry it over</Act>}
          {x.choices?.map((c) => <Act plain key={c} busy={carry.isPending} onClick={() => { carry.mutate(c) }}>carry from {c}</Act>)}
        </span>
      </div>
      {x.state !== 'saved' && x.needed && <p className="text-xs text-soft">{x.say}. {x.state === 'no supplier' && x.remedy}</p>}
      {carry.error && <Waiting error={carry.error} />}
    </li>
  )
}

/** What flows from one registration into another; a server value is carried by the server and never shown. */
export function Connections({ connections }: { connections: Connection[] }) {
  return <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">{connections.map((x) => <Line key={x.registration + x.slot} connection={x} />)}</ul>
}
