import { Link } from 'react-router'

import type { OverviewCell } from '../data/api'
import { useOverview } from '../data/hooks'
import { Ago, State, Waiting } from '../parts/parts'

/** Apps × services: each cell the worst thing known, and how fresh it is. */
export function OverviewPage() {
  const overview = useOverview()
  if (!overview.data) return <Waiting error={overview.error} />
  const { services, apps } = overview.data
  return (
    <>
      <h1 className="mb-4 text-xl font-semibold">Apps and services</h1>
      {apps.length === 0 ? (
        <p className="rounded border border-dashed border-line p-6 text-soft">No app yet. In a project’s folder, run <code className="font-mono text-ink">ligare app attach NAME</code>.</p>
      ) : (
        <div className="overflow-x-auto rounded border border-line bg-sheet">
          <table className="w-full border-collapse text-sm">
            <thead>
              <tr className="border-b border-line bg-wash text-left">
                <th scope="col" className="px-4 py-2 font-medium">Service</th>
                {apps.map((app) => (
                  <th scope="col" key={app.name} className="px-4 py-2 font-medium"><Link to={`/apps/${app.name}`} className="text-accent underline-offset-2 hover:underline">{app.title}</Link><div className="font-mono text-xs font-normal text-soft">{app.name}</div></th>
                ))}
              </tr>
            </thead>
            <tbody>
              {services.map((service, row) => (
                <tr key={service.service} className="border-b border-line last:border-0">
                  <th scope="row" className="px-4 py-2 text-left align-top font-normal"><Link to={`/services/${service.service}`} className="underline-offset-2 hover:underline">{service.title}</Link></th>
                  {apps.map((app) => <td key={app.name} className="px-4 py-2 align-top"><Cell cell={app.cells[row]} /></td>)}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}

function Cell({ cell }: { cell: OverviewCell | undefined }) {
  if (!cell || cell.state === 'none') return <span className="text-soft" aria-label="not registered">–</span>
  return (
    <>
      <State state={cell.state} />
      <div>{cell.say}</div>
      {(cell.checked ?? cell.lastSighting) && (
        <div className="text-xs text-soft">
          {cell.checked && <>checked <Ago at={cell.checked} /></>}
          {cell.checked && cell.lastSighting && ' · '}
          {cell.lastSighting && <>seen <Ago at={cell.lastSighting} /></>}
        </div>
      )}
    </>
  )
}
