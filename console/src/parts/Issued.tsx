import { useState } from 'react'

import type { IssuedValue } from '../data/api'
import { Copy } from './parts'

const mask = (v: string) => (v.length < 12 ? '•'.repeat(v.length) : `${v.slice(0, 3)}•••${v.slice(-2)}`)

/** A text that is masked until it is asked for. */
export function Masked({ value, what }: { value: string; what: string }) {
  const [shown, setShown] = useState(false)
  return (
    <>
      <span className="font-mono break-all">{shown ? value : mask(value)}</span>
      <button type="button" aria-pressed={shown} aria-label={`Show ${what}`} onClick={() => { setShown(!shown) }} className="ml-2 rounded border border-line px-1.5 text-xs text-soft hover:text-ink">{shown ? 'hide' : 'show'}</button>
      <Copy text={value} what={what} />
    </>
  )
}

/** An issued value; one that must not ship has no value here at all. */
export function Issued({ value }: { value: IssuedValue }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-3 py-1">
      <dt className="w-56 text-soft">{value.title}</dt>
      <dd>
        {value.exposure === 'server' ? <span className="italic">kept on the server, must not ship</span> : <Masked value={value.value ?? ''} what={value.title} />}
        {value.instead && <p className="max-w-md text-xs text-soft">{value.instead}</p>}
        {value.by && <span className="ml-2 text-xs text-soft">recorded by hand</span>}
      </dd>
    </div>
  )
}
