import { useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useRef, useState, type SyntheticEvent } from 'react'
import { useNavigate } from 'react-router'

import { call } from '../data/api'
import { Waiting } from '../parts/parts'

/** Takes a token, typed or from behind the # of the address that a developer's own server prints. */
export function SignInPage() {
  const go = useNavigate()
  const queries = useQueryClient()
  const [error, setError] = useState<Error | null>(null)
  const field = useRef<HTMLInputElement>(null)
  const signIn = useCallback((token: string) => {
    call('POST', '/v1/session', { token })
      .then(() => {
        queries.clear()
        return go('/', { replace: true })
      })
      .catch((reason: unknown) => { setError(reason instanceof Error ? reason : new Error(String(reason))) })
  }, [go, queries])
  useEffect(() => {
    const token = window.location.hash.slice(1)
    if (!token) return
    window.history.replaceState(null, '', '/sign-in') // it shall not stay in the address
    signIn(token)
  }, [signIn])
  const submit = (event: SyntheticEvent) => {
    event.preventDefault()
    signIn(field.current?.value.trim() ?? '')
  }
  return (
    <main className="mx-auto mt-[14vh] max-w-md px-4">
      <h1 className="mb-1 flex items-center gap-3 text-2xl font-semibold"><img src="/mark.svg" alt="" className="size-8" />Ligare</h1>
      <p className="mb-6 text-soft">Which app is connected to what, and whether every identifier agrees.</p>
      <form onSubmit={submit} className="rounded border border-line bg-sheet p-5">
        <label htmlFor="token" className="mb-1 block text-sm font-medium">Your token</label>
        <input id="token" ref={field} type="password" autoComplete="current-password" required className="mb-3 w-full rounded border border-line bg-paper px-2 py-1.5 font-mono" />
        <button type="submit" className="w-full rounded bg-accent px-3 py-1.5 font-medium text-paper">Sign in</button>
        <p className="mt-3 text-sm text-soft">Your own server prints an address that signs you in. For a team, an owner makes tokens.</p>
      </form>
      {error && <div className="mt-4"><Waiting error={error} /></div>}
    </main>
  )
}
