import { Fragment } from 'react'

import type { Cell, LineUp, Row } from '../data/api'
import { Copy, platformName, Tip } from './parts'

/** The rows as plain text, for pasting into a message. */
function asText(lineUp: LineUp): string {
  const line = (r: Row) => [r.agrees ? '=' : '≠', r.identity, r.what, ...lineUp.columns.map((c) => shown(r.cells[c]))].join('\t')
  return [['', 'identity', 'what', ...lineUp.columns].join('\t'), ...lineUp.rows.map(line)].join('\n')
}

const shown = (cell?: Cell) => (cell ? cell.value || (cell.note ? `(${cell.note})` : '') : '')

/** Marks the first character that differs from what the service has. */
function Value({ cell, expected, odd }: { cell: Cell; expected: string; odd: boolean }) {
  if (!cell.value) return <span className="text-soft italic">{cell.note}</span>
  if (!odd) return <>{cell.value}{cell.note && <span className="text-soft italic"> {cell.note}</span>}</>
  let i = 0
  while (i < cell.value.length && cell.value[i] === expected[i]) i++
  return (
    <>
      {cell.value.slice(0, i)}
      <mark className="rounded-sm bg-wrong px-px text-sheet underline decoration-2 underline-offset-4">{cell.value[i] === ' ' ? '␣' : cell.value[i]}</mark>
      {cell.value.slice(i + 1)}
    </>
  )
}

function Holder({ row, column }: { row: Row; column: string }) {
  const cell = row.cells[column]
  if (!cell) return <td className="px-3 py-1.5 align-top text-soft" aria-label={`${column}: does not hold this`}>·</td>
  const odd = row.odd?.includes(column) ?? false
  return (
    <td className={`px-3 py-1.5 align-top ${odd ? 'bg-wrongwash outline outline-1 outline-wrong' : ''}`}>
      <div className="font-mono text-xs [overflow-wrap:anywhere]">
        {odd && <span className="mr-1 text-sm font-sans font-bold text-wrong">≠<span className="sr-only"> disagrees: </span></span>}
        <Value cell={cell} expected={row.cells['service']?.value ?? ''} odd={odd} />
      </div>
      {cell.where && (odd
        ? <div className="text-[11px] [overflow-wrap:anywhere] text-soft">{cell.where}</div>
        : <Tip text={cell.where}><button type="button" className="block text-left text-[11px] text-soft">{cell.where.slice(cell.where.lastIndexOf('/') + 1)}</button></Tip>)}
    </td>
  )
}

export function LineUpTable({ lineUp }: { lineUp: LineUp }) {
  const groups = new Map<string, Row[]>()
  for (const row of lineUp.rows) {
    const key = [row.service, row.environment, row.platform, row.identity].join(' ')
    groups.set(key, [...(groups.get(key) ?? []), row])
  }
  // What disagrees is seen first.
  const ordered = [...groups.entries()].sort(([, a], [, b]) => Number(a.every((r) => r.agrees)) - Number(b.every((r) => r.agrees)))
  if (groups.size === 0) return <p className="py-4 text-soft">Nothing is registered yet, so there is nothing to line up.</p>
  return (
    <div className="overflow-x-auto rounded border border-line bg-sheet">
      <table className="w-full min-w-[46rem] border-collapse text-sm">
        <thead>
          <tr className="border-b border-line text-left text-xs text-soft">
            <th scope="col" className="px-3 py-2"><span className="sr-only">Agreement</span></th>
            <th scope="col" className="py-2 pr-3 font-medium">What</th>
            {lineUp.columns.map((c) => <th scope="col" key={c} className="px-3 py-2 font-medium first-letter:uppercase">{c}</th>)}
          </tr>
        </thead>
        <tbody>
          {ordered.map(([key, rows]) => (
            <Fragment key={key}>
              <tr className="border-y border-line bg-wash">
                <th scope="rowgroup" colSpan={lineUp.columns.length + 2} className="px-3 py-1.5 text-left text-xs font-normal">
                  <span className="font-semibold">{platformName(rows[0]?.platform ?? '')}</span>{' '}
                  <span className="font-mono">{rows[0]?.identity}</span>
                  <span className="text-soft"> · {rows[0]?.service}, {rows[0]?.environment}{rows[0]?.variants?.length ? ` · builds ${rows[0].variants.join(', ')}` : ''}</span>
                </th>
              </tr>
              {rows.map((row) => (
                <tr key={row.what} className="border-b border-line/60 last:border-0">
                  <td className={`w-8 px-3 py-1 text-center align-top text-base font-bold ${row.agrees ? 'text-fine' : 'text-wrong'}`}>
                    <span aria-hidden>{row.agrees ? '=' : '≠'}</span><span className="sr-only">{row.agrees ? 'agrees' : 'disagrees'}</span>
                  </td>
                  <th scope="row" className="py-1.5 pr-3 text-left align-top font-medium whitespace-nowrap first-letter:uppercase">{row.what}</th>
                  {lineUp.columns.map((c) => <Holder key={c} row={row} column={c} />)}
                </tr>
              ))}
            </Fragment>
          ))}
        </tbody>
      </table>
    </div>
  )
}

export function CopyLineUp({ lineUp }: { lineUp: LineUp }) {
  return <Copy text={asText(lineUp)} what="the line-up as text" />
}
