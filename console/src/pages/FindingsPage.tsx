import { Link, useParams, useSearchParams } from 'react-router'

import type { CheckRun, FindingState, Findings } from '../data/api'
import { useFindings } from '../data/hooks'
import { Ago, Section, Waiting } from '../parts/parts'
import { SeverityMark } from '../parts/Severity'

const states = { here: 'there now', new: 'new', gone: 'went away', all: 'all' } as const
type State = keyof typeof states

const severities = ['error', 'warning', 'note'] as const

/** The findings of an app on a branch. What is chosen lives in the address, so that it can be sent to somebody. */
export function FindingsPage() {
  const { app = '' } = useParams()
  const [query, setQuery] = useSearchParams()
  const branch = query.get('branch')
  const findings = useFindings(app, branch)
  const choose = (name: string, value: string) => {
    setQuery((before) => {
      const next = new URLSearchParams(before)
      if (value === '') next.delete(name)
      else next.set(name, value)
      return next
    })
  }
  return (
    <>
      <p className="text-sm text-soft"><Link to="/" className="hover:underline">Apps and services</Link> / <Link to={`/apps/${app}`} className="hover:underline">{app}</Link> /</p>
      <h1 className="mb-5 text-xl font-semibold">Findings</h1>
      {findings.data ? <Found findings={findings.data} query={query} choose={choose} /> : findings.data === null
        ? <p className="text-soft">The tree was never checked. Run <code className="font-mono text-ink">ligare check</code> in it.</p> : <Waiting error={findings.error} />}
    </>
  )
}

function Found({ findings, query, choose }: { findings: Findings; query: URLSearchParams; choose: (name: string, value: string) => void }) {
  const state = (query.get('state') ?? 'here') as State
  const severity = query.get('severity') ?? ''
  const rule = query.get('rule') ?? ''
  const text = query.get('text') ?? ''
  const rules = [...new Set(findings.items.map((f) => f.finding.rule))].sort()
  const shown = findings.items.filter((f) => inState(f, state) && (severity === '' || f.finding.severity === severity) && (rule === '' || f.finding.rule === rule)
    && (text === '' || `${f.finding.message} ${f.finding.file} ${f.finding.variant}`.toLowerCase().includes(text.toLowerCase())))
  const count = (s: State) => findings.items.filter((f) => inState(f, s)).length
  return (
    <>
      <div className="mb-4 flex flex-wrap items-end gap-x-4 gap-y-2 text-sm">
        <Choice label="Branch" value={query.get('branch') ?? ''} onChange={(v) => { choose('branch', v) }} options={[['', `newest: ${findings.branch || 'no branch'}`], ...findings.branches.filter((b) => b.branch !== '').map((b): [string, string] => [b.branch, `${b.branch} (${b.errors} errors)`])]} />
        <Choice label="State" value={state} onChange={(v) => { choose('state', v === 'here' ? '' : v) }} options={(Object.keys(states) as State[]).map((s) => [s, `${states[s]} (${count(s)})`])} />
        <Choice label="Severity" value={severity} onChange={(v) => { choose('severity', v) }} options={[['', 'any'], ...severities.map((s): [string, string] => [s, s])]} />
        <Choice label="Rule" value={rule} onChange={(v) => { choose('rule', v) }} options={[['', 'any'], ...rules.map((r): [string, string] => [r, r])]} />
        <label className="flex flex-col text-soft">Words
          <input className="h-7 rounded border border-line bg-sheet px-2 text-ink" value={text} onChange={(event) => { choose('text', event.target.value) }} placeholder="file, variant, message" />
        </label>
      </div>
      <Section title={findings.branch || 'Tree'} aside={<>checked <Ago at={findings.at} />{findings.commit && <> at <code className="font-mono">{findings.commit.slice(0, 10)}</code></>}</>}>
        <p className="mb-2 text-sm text-soft">{findings.passed
          ? <>Last without errors <Ago at={findings.passed.at} />{findings.passed.commit && <> at <code className="font-mono">{findings.passed.commit.slice(0, 10)}</code></>}; {count('new')} new since.</>
          : 'No check of this branch was without errors yet.'}</p>
        {shown.length === 0 ? <p className="rounded border border-line bg-sheet px-3 py-2 text-sm">Nothing here.</p>
          : <ul className="divide-y divide-line rounded border border-line bg-sheet text-sm">{shown.map((f) => <Line key={f.finding.fingerprint} state={f} />)}</ul>}
      </Section>
      <Section title="Checks" aside="newest first"><Runs runs={findings.checks} /></Section>
    </>
  )
}

function inState(f: FindingState, state: State) {
  switch (state) {
    case 'here': return !f.gone
    case 'new': return f.new
    case 'gone': return !!f.gone
    case 'all': return true
  }
}

function Choice({ label, value, onChange, options }: { label: string; value: string; onChange: (value: string) => void; options: [string, string][] }) {
  return (
    <label className="flex flex-col text-soft">{label}
      <select className="h-7 rounded border border-line bg-sheet px-2 text-ink" value={value} onChange={(event) => { onChange(event.target.value) }}>
        {options.map(([v, name]) => <option key={v} value={v}>{name}</option>)}
      </select>
    </label>
  )
}

function Line({ state: f }: { state: FindingState }) {
  const x = f.finding
  return (
    <li className="px-3 py-2">
      <details>
        <summary className="cursor-pointer">
          <SeverityMark severity={x.severity} /> {x.message}
          {f.new && <span className="ml-2 rounded border border-line px-1 text-xs">new</span>}
          {f.gone && <span className="ml-2 rounded border border-line px-1 text-xs">went away <Ago at={f.gone} /></span>}
          <span className="block pl-6 text-xs break-all text-soft"><span className="font-mono">{x.file}{x.line > 0 && `:${x.line}:${x.column}`}</span> · {x.rule}{x.variant && ` · builds ${x.variant}`}</span>
        </summary>
        <dl className="mt-2 grid grid-cols-[6rem_1fr] gap-x-3 gap-y-1 pl-6 text-xs">
          <dt className="text-soft">Rule</dt><dd>{f.title}</dd>
          <dt className="text-soft">Why</dt><dd>{f.why}</dd>
          {x.fix && <><dt className="text-soft">Mend</dt><dd>{x.fix}{x.fixable && ' (ligare check --fix does it)'}</dd></>}
          <dt className="text-soft">Since</dt><dd><Ago at={f.first} />{f.firstCommit && <>, commit <code className="font-mono">{f.firstCommit.slice(0, 10)}</code></>}{f.times > 1 && `; it came ${f.times} times`}</dd>
          {f.gone && <><dt className="text-soft">Until</dt><dd><Ago at={f.gone} />{f.goneCommit && <>, commit <code className="font-mono">{f.goneCommit.slice(0, 10)}</code></>}</dd></>}
        </dl>
      </details>
    </li>
  )
}

function Runs({ runs }: { runs: CheckRun[] }) {
  return (
    <table className="w-full text-left text-sm">
      <thead className="text-soft"><tr><th className="py-1 font-normal">When</th><th className="font-normal">Commit</th><th className="text-right font-normal">Errors</th><th className="text-right font-normal">Warnings</th><th className="text-right font-normal">Notes</th></tr></thead>
      <tbody className="divide-y divide-line">
        {runs.map((r) => (
          <tr key={r.at}>
            <td className="py-1"><Ago at={r.at} /></td>
            <td className="font-mono text-xs">{r.commit?.slice(0, 10)}</td>
            <td className="text-right">{r.errors > 0 ? <span className="font-semibold text-wrong">✕ {r.errors}</span> : 0}</td><td className="text-right">{r.warnings}</td><td className="text-right">{r.notes}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
