import { useQueryClient } from '@tanstack/react-query'
import { Link, Navigate, NavLink, Outlet, useNavigate } from 'react-router'

import { call, Refused } from '../data/api'
import { useLive, useMe } from '../data/hooks'
import { platformName, Waiting } from '../parts/parts'

const here = ({ isActive }: { isActive: boolean }) => (isActive ? 'font-semibold underline underline-offset-4' : 'text-soft hover:text-ink')

/** The frame around every page: who is signed in, and what a service saw just now. */
export function Frame() {
  const me = useMe()
  if (me.error instanceof Refused && me.error.problem.status === 401) return <Navigate to="/sign-in" replace />
  return (
    <div className="mx-auto max-w-7xl px-4 pb-16 sm:px-6">
      <a href="#content" className="sr-only focus:not-sr-only">Skip to content</a>
      <header className="mb-6 flex flex-wrap items-center gap-x-6 gap-y-2 border-b border-line py-3">
        <Link to="/" className="flex items-center gap-2 text-lg font-semibold"><img src="/mark.svg" alt="" className="size-6" />Ligare</Link>
        {me.data && <span className="text-sm text-soft">{me.data.team}</span>}
        <nav aria-label="Main" className="flex gap-4 text-sm">
          <NavLink to="/" end className={here}>Apps</NavLink>
          <NavLink to="/packages" className={here}>Packages</NavLink>
          <NavLink to="/services" className={here}>Services</NavLink>
        </nav>
        <div className="ml-auto flex items-center gap-3 text-sm text-soft">
          {me.data && <span>{me.data.name}, {me.data.role}</span>}
          <SignOut />
        </div>
      </header>
      {me.data && <Live />}
      <main id="content">{me.data ? <Outlet /> : <Waiting error={me.error} />}</main>
    </div>
  )
}

function SignOut() {
  const go = useNavigate()
  const queries = useQueryClient()
  const leave = () => {
    void call('DELETE', '/v1/session').then(() => {
      queries.clear()
      return go('/sign-in')
    })
  }
  return <button type="button" onClick={leave} className="rounded border border-line px-2 py-0.5 hover:text-ink">Sign out</button>
}

function Live() {
  const seen = useLive()
  return (
    <div role="status" aria-live="polite" className="fixed right-4 bottom-4 z-10">
      {seen && (
        <p key={seen.id} className="arrived rounded border border-line bg-sheet px-4 py-2 text-sm shadow-lg">
          <span aria-hidden className="mr-2 text-fine">●</span>
          {seen.service} just saw {platformName(seen.platform)} <span className="font-mono">{seen.identifier}</span>: {seen.kind}
        </p>
      )}
    </div>
  )
}
