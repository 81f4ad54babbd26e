import { Tooltip } from 'radix-ui'
import { useEffect, useState, type ReactNode } from 'react'

import { Refused, type CellState } from '../data/api'

export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  const id = `section-${title.toLowerCase().replaceAll(' ', '-')}`
  return (
    <section aria-labelledby={id} className="mb-8">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id={id} className="text-base font-semibold">{title}</h2>
        {aside && <div className="text-sm text-soft">{aside}</div>}
      </div>
      {children}
    </section>
  )
}

/** What is shown while data is on its way, and when it cannot come. */
export function Waiting({ error }: { error: Error | null }) {
  if (!error) return <p role="status" className="py-6 text-soft">One moment…</p>
  const remedy = error instanceof Refused ? error.problem.remedy : 'Check that the server runs.'
  return (
    <div role="alert" className="rounded border border-wrong bg-wrongwash p-4">
      <p className="font-medium">{error.message}</p>
      {remedy && <p className="text-sm">{remedy}</p>}
    </div>
  )
}

const marks: Record<CellState, { mark: string; tone: string; word: string }> = {
  working: { mark: '●', tone: 'text-fine', word: 'works' },
  silent: { mark: '◐', tone: 'text-wait', word: 'silent' },
  unknown: { mark: '?', tone: 'text-wait', word: 'not known' },
  warning: { mark: '▲', tone: 'text-accent', word: 'warnings' },
  error: { mark: '✕', tone: 'text-wrong', word: 'errors' },
  none: { mark: '–', tone: 'text-soft', word: 'not registered' },
}

/** A state told by sign and word; colour only underlines it. */
export function State({ state }: { state: CellState }) {
  const m = marks[state]
  return <span className={`font-medium ${m.tone}`}><span aria-hidden className="mr-1.5 inline-block w-4 text-center">{m.mark}</span>{m.word}</span>
}

const standing: Record<string, { mark: string; tone: string; word: string }> = {
  registered: { mark: '●', tone: 'text-fine', word: 'registered' },
  started: { mark: '◐', tone: 'text-wait', word: 'not complete' },
  unknown: { mark: '?', tone: 'text-wait', word: 'outcome not known' },
  failed: { mark: '✕', tone: 'text-wrong', word: 'refused' },
}

export function RegistrationState({ state }: { state: string }) {
  const m = standing[state] ?? { mark: '–', tone: 'text-soft', word: state }
  return <span className={`font-medium ${m.tone}`}><span aria-hidden className="mr-1.5">{m.mark}</span>{m.word}</span>
}

/** A button that does something; what it refuses is said below it. */
export function Act({ children, onClick, busy, plain }: { children: ReactNode; onClick: () => void; busy?: boolean; plain?: boolean }) {
  return (
    <button type="button" onClick={onClick} disabled={busy} className={plain ? 'rounded border border-line px-2 py-0.5 text-xs text-soft hover:text-ink disabled:opacity-50' : 'rounded bg-accent px-4 py-1.5 font-medium text-paper disabled:opacity-50'}>{children}</button>
  )
}

/** The time, moving on every half minute. */
function useNow(): number {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => { setNow(Date.now()) }, 30_000)
    return () => { clearInterval(timer) }
  }, [])
  return now
}

export function Ago({ at }: { at: string }) {
  const now = useNow()
  const seconds = Math.max(0, Math.round((now - new Date(at).getTime()) / 1000))
  const say = seconds < 90 ? 'just now' : seconds < 5400 ? `${Math.round(seconds / 60)} min ago` : seconds < 129600 ? `${Math.round(seconds / 3600)} h ago` : `${Math.round(seconds / 86400)} days ago`
  return <time dateTime={at} title={new Date(at).toLocaleString()}>{say}</time>
}

export function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false)
  const copy = () => {
    void navigator.clipboard.writeText(text).then(() => {
      setDone(true)
      setTimeout(() => { setDone(false) }, 1500)
    })
  }
  return (
    <button type="button" onClick={copy} aria-label={`Copy ${what}`} className="ml-2 rounded border border-line px-1.5 text-xs text-soft hover:text-ink">
      {done ? 'copied' : 'copy'}
    </button>
  )
}

export function Tip({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={4} className="z-10 max-w-md rounded bg-ink px-2 py-1 text-xs break-all text-paper">{text}</Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  )
}

export const platformName = (platform: string) => ({ android: 'Android', ios: 'iOS', web: 'Web' })[platform] ?? platform
