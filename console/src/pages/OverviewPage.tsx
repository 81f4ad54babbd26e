import { Link } from 'react-router'

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
                <th scope="col" className="px-4 py-2 font-medium">App</th>
                {services.map((s) => <th scope="col" key={s.service} className="px-4 py-2 font-medium">{s.title}</th>)}
              </tr>
            </thead>
            <tbody>
              {apps.map((app) => (
                <tr key={app.name} className="border-b border-line last:border-0">
                  <th scope="row" className="px-4 py-3 text-left align-top font-normal">
                    <Link to={`/apps/${app.name}`} className="font-semibold text-accent underline-offset-2 hover:underline">{app.title}</Link>
                    <div className="font-mono text-xs text-soft">{app.name}</div>
                  </th>
                  {app.cells.map((cell) => (
                    <td key={cell.service} className="px-4 py-3 align-top">
                      <State state={cell.state} />
                      {cell.state !== 'none' && <div>{cell.say}</div>}
                      {(cell.checked ?? cell.lastSighting) && (
                        <div className="text-xs text-soft">
                          {cell.checked && <>checked <Ago at={cell.checked} /></>}
                          {cell.checked && cell.lastSighting && ' · '}
                          {cell.lastSighting && <>seen <Ago at={cell.lastSighting} /></>}
                        </div>
                      )}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}
