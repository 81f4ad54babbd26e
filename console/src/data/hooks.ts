import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import {
  call, Refused, send, type App, type Builder, type Catalogue, type Connection, type Findings, type Keep, type LineUp, type Me, type Overview, type Package, type Page, type Plan, type Register, type Registration, type Report, type Service,
  type Sighting, type Signer, type Survey,
} from './api'

const get = <T>(path: string) => () => call<T>('GET', path)
const at = (app: string, what = '') => `/v1/apps/${encodeURIComponent(app)}${what}`

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: get<Me>('/v1/me') })
export const useOverview = () => useQuery({ queryKey: ['overview'], queryFn: get<Overview>('/v1/overview') })
export const useApp = (app: string) => useQuery({ queryKey: ['app', app], queryFn: get<App>(at(app)) })
export const useRegistrations = (app: string) => useQuery({ queryKey: ['registrations', app], queryFn: get<Page<Registration>>(at(app, '/registrations')) })
export const useLineUp = (app: string) => useQuery({ queryKey: ['lineup', app], queryFn: get<LineUp>(at(app, '/lineup')) })
export const useSurvey = (app: string) => useQuery({ queryKey: ['survey', app], queryFn: get<Survey>(at(app, '/survey')) })
export const useSigners = (app: string) => useQuery({ queryKey: ['signers', app], queryFn: get<Page<Signer>>(`/v1/signers?app=${encodeURIComponent(app)}`) })
export const useSightings = (app: string) => useQuery({ queryKey: ['sightings', app], queryFn: get<Page<Sighting>>(at(app, '/sightings?limit=20')) })

export const useServices = () => useQuery({ queryKey: ['services'], queryFn: get<Page<Service>>('/v1/services') })
export const useService = (service: string) => useQuery({ queryKey: ['service', service], queryFn: get<Service>(`/v1/services/${encodeURIComponent(service)}`) })
export const useRegistration = (id: string) => useQuery({ queryKey: ['registration', id], queryFn: get<Registration>(`/v1/registrations/${id}`) })
export const useConnections = (app: string) => useQuery({ queryKey: ['connections', app], queryFn: get<Page<Connection>>(at(app, '/connections')), enabled: app !== '' })
export const useCatalogue = (id: string, has: boolean) => useQuery({ queryKey: ['catalogue', id], queryFn: get<Catalogue>(`/v1/registrations/${id}/catalogue`), enabled: has })
export const useBuilder = (id: string, has: boolean) => useQuery({ queryKey: ['builder', id], queryFn: get<Builder>(`/v1/registrations/${id}/builder`), enabled: has })

/** What would be sent to a service; asked again whenever an answer changes. */
export const usePlan = (wish: Register, ready: boolean) =>
  useQuery({ queryKey: ['plan', wish], queryFn: () => call<Plan>('POST', '/v1/registrations/plan', wish), enabled: ready, placeholderData: (before) => before })

/** A change at the server, after which everything shown is fetched again. */
export function useChange<In, Out>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient()
  return useMutation<Out, Error, In>({ mutationFn: change, onSuccess: () => queries.invalidateQueries() })
}

/** Fetches what may not be there yet: null then. */
const getOrNull = <T>(path: string) => async () => {
  try {
    return await call<T>('GET', path)
  } catch (error) {
    if (error instanceof Refused && error.problem.status === 404) return null
    throw error
  }
}

/** The last check of an app's tree; null when it was never checked. */
export const useReport = (app: string) => useQuery({ queryKey: ['report', app], queryFn: getOrNull<Report>(at(app, '/report')) })

/** How the findings of a branch stand, of the one checked last without a branch; null when there was no check. */
export const useFindings = (app: string, branch: string | null) =>
  useQuery({ queryKey: ['findings', app, branch], queryFn: getOrNull<Findings>(at(app, '/findings') + (branch === null ? '' : `?branch=${encodeURIComponent(branch)}`)), placeholderData: (before) => before })

export const usePackages = (app: string) => useQuery({ queryKey: ['packages', app], queryFn: get<Page<Package>>(`/v1/packages?limit=20${app && `&app=${encodeURIComponent(app)}`}`) })
export const usePackage = (id: string) => useQuery({ queryKey: ['package', id], queryFn: get<Package>(`/v1/packages/${encodeURIComponent(id)}`) })

export interface Handed { file: File; app: string; environment: string; keep: Keep }

/** Hands a package in; sent is how much of it went, from 0 to 1. */
export function useHandIn() {
  const [sent, setSent] = useState(0)
  const change = useChange((h: Handed) => {
    setSent(0)
    const query = new URLSearchParams({ name: h.file.name, keep: h.keep })
    if (h.app) query.set('app', h.app)
    if (h.environment) query.set('environment', h.environment)
    return send<Package>(`/v1/packages?${query.toString()}`, h.file, setSent)
  })
  return [change, sent] as const
}

/** Follows the server's live events: what changed is fetched again, and the newest sighting is handed out. */
export function useLive(): Sighting | undefined {
  const queries = useQueryClient()
  const [seen, setSeen] = useState<Sighting>()
  useEffect(() => {
    const source = new EventSource('/v1/events')
    const refresh = () => { void queries.invalidateQueries() }
    source.addEventListener('app', refresh)
    source.addEventListener('registration', refresh)
    source.addEventListener('report', refresh)
    source.addEventListener('survey', refresh)
    source.addEventListener('signer', refresh)
    source.addEventListener('sheet', refresh)
    source.addEventListener('package', refresh)
    source.addEventListener('sighting', (event: MessageEvent<string>) => {
      setSeen(JSON.parse(event.data) as Sighting)
      refresh()
    })
    return () => { source.close() }
  }, [queries])
  return seen
}
