import { Tabs } from 'radix-ui'

import type { SurveyedFact, SurveyedVariant } from '../data/api'
import { Copy, platformName } from './parts'

const stray = 'does not count: '

const keyOf = (v: SurveyedVariant) => `${v.platform} ${v.site} ${v.variant}`

/** An answer in one of its forms: a value, several possible ones, or why there is none. */
function Answer({ fact }: { fact: SurveyedFact }) {
  if (fact.unresolved) return <span className="text-wait"><span aria-hidden className="mr-1.5 font-bold">?</span>not resolved: {fact.unresolved}</span>
  if (fact.possible?.length) return <ul>{fact.possible.map((p) => <li key={p}><span aria-hidden className="mr-1.5 text-wait">◇</span><span className="font-mono text-xs break-all">{p}</span></li>)}</ul>
  return <span className="font-mono text-xs [overflow-wrap:anywhere]">{fact.value}{fact.value && <Copy text={fact.value} what={fact.name} />}</span>
}

function Facts({ facts }: { facts: SurveyedFact[] }) {
  return (
    <table className="w-full border-collapse text-sm">
      <thead className="sr-only"><tr><th scope="col">Fact</th><th scope="col">Answer</th><th scope="col">Where it stands</th></tr></thead>
      <tbody>
        {facts.map((f) => (
          <tr key={f.name + (f.place ?? '')} className="border-b border-line/60 last:border-0">
            <th scope="row" className="w-44 py-1.5 pr-3 pl-3 text-left align-top font-normal text-soft">{f.name.replace(stray, '')}</th>
            <td className="py-1.5 pr-3 align-top">
              <Answer fact={f} />
              {f.via?.map((step) => <div key={step} className="text-[11px] [overflow-wrap:anywhere] text-soft">← {step}</div>)}
            </td>
            <td className="w-72 py-1.5 pr-3 text-right align-top font-mono text-[11px] [overflow-wrap:anywhere] text-soft max-sm:hidden">{f.place}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** Every variant of an app with its facts and where each stands. */
export function Variants({ variants }: { variants: SurveyedVariant[] }) {
  const [first] = variants
  if (!first) return <p className="text-sm text-soft">Not known yet. Run <code className="font-mono text-ink">ligare survey --send</code> in the tree; attaching and checking send it too.</p>
  return (
    <Tabs.Root defaultValue={keyOf(first)} orientation="vertical" className="rounded border border-line bg-sheet md:grid md:grid-cols-[17rem_1fr]">
      <Tabs.List aria-label="Variants" className="flex max-h-[34rem] flex-col overflow-y-auto border-line max-md:border-b md:border-r">
        {variants.map((v) => (
          <Tabs.Trigger key={keyOf(v)} value={keyOf(v)} className="border-b border-l-4 border-line/60 border-l-transparent px-3 py-2 text-left text-sm last:border-b-0 data-[state=active]:border-l-accent data-[state=active]:bg-wash">
            <span className="font-medium">{platformName(v.platform)} {v.variant}</span>
            <span className="block text-xs text-soft">{v.site} · {v.layout}</span>
            <span className="block font-mono text-[11px] [overflow-wrap:anywhere] text-soft">{v.identity || 'bound to no identity'}</span>
            {v.environment && <span className="block text-[11px] text-soft">{v.environment}</span>}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      {variants.map((v) => {
        const other = v.facts.filter((f) => f.name.startsWith(stray))
        return (
          <Tabs.Content key={keyOf(v)} value={keyOf(v)} className="max-h-[34rem] overflow-y-auto">
            <Facts facts={v.facts.filter((f) => !f.name.startsWith(stray))} />
            {other.length > 0 && (
              <div className="border-t border-line">
                <h3 className="px-3 pt-2 text-xs font-semibold">Other places an ID can be read from: they do not count</h3>
                <Facts facts={other} />
              </div>
            )}
          </Tabs.Content>
        )
      })}
    </Tabs.Root>
  )
}
