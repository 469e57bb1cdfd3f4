import { Navigate } from 'react-router'
import { useSites } from '../api/queries'
import { Empty } from '../parts/Empty'
import { lastSite } from './lastSite'
import { Loading } from '../parts/Loading'

/** Sites opens the site looked at last, or the first. */
export function SitesPlace() {
  const sites = useSites()
  if (!sites.data) return <Loading of="Sites" />
  const code = sites.data.find((s) => s.code === lastSite())?.code ?? sites.data[0]?.code
  if (!code) return <Empty title="There is no site yet" says="Import a site file: lithos import FILE." />
  return <Navigate to={`/sites/${code}`} replace />
}
