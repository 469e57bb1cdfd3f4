import { lazy, Suspense } from 'react'
import { Navigate, Route, Routes } from 'react-router'
import { HistoryPage } from './history/HistoryPage'
import { useSessionLost } from './api/lost'
import { useLiveEvents, useSession } from './api/queries'
import { Frame } from './frame/Frame'
import { CurrentOrder } from './frame/currentOrder'
import { Empty } from './parts/Empty'
import { FollowingPage } from './rounds/FollowingPage'
import { Rounds } from './rounds/Rounds'
import { SignIn, SignInAgain } from './signin/SignIn'
import { SitesPlace } from './site/SitesPlace'

// A place is loaded when somebody first goes there.
const OrderPage = lazy(async () => ({ default: (await import('./orders/OrderPage')).OrderPage }))
const Orders = lazy(async () => ({ default: (await import('./orders/Orders')).Orders }))
import { SheetPage } from './site/SheetPage'
const SitePage = lazy(async () => ({ default: (await import('./site/SitePage')).SitePage }))
const MovePage = lazy(async () => ({ default: (await import('./moves/MovePage')).MovePage }))
const PlanPage = lazy(async () => ({ default: (await import('./moves/PlanPage')).PlanPage }))
const VisitsPage = lazy(async () => ({ default: (await import('./moves/VisitsPage')).VisitsPage }))
const Standards = lazy(async () => ({ default: (await import('./standards/Standards')).Standards }))

export function App() {
  const session = useSession()
  const technician = session.data?.technician
  const lost = useSessionLost()
  useLiveEvents(technician !== undefined && !lost)
  if (session.isPending) return null
  if (!technician) return <SignIn problem={session.error?.message} />
  return (
    <CurrentOrder>
      <Routes>
        <Route
          path="moves/:id/visits"
          element={
            <Suspense fallback={null}>
              <VisitsPage />
            </Suspense>
          }
        />
        <Route element={<Frame technician={technician} held={session.data?.hold} />}>
          <Route index element={<Navigate to="/rounds" replace />} />
          <Route path="rounds" element={<Rounds />} />
          <Route path="rounds/following" element={<FollowingPage />} />
          <Route path="sites" element={<SitesPlace />} />
          <Route path="sites/:code" element={<SitePage />} />
          <Route path="sites/:code/history" element={<HistoryPage />} />
          <Route path="sites/:code/sheet" element={<SheetPage />} />
          <Route path="sites/:code/move" element={<PlanPage />} />
          <Route path="moves/:id" element={<MovePage />} />
          <Route path="orders" element={<Orders />} />
          <Route path="orders/:id" element={<OrderPage />} />
          <Route path="standards" element={<Standards />} />
          <Route
            path="*"
            element={
              <Empty
                title="There is nothing at this address"
                says="It may have been mistyped, or cut off when it was copied."
                to="/rounds"
                first="Go to Rounds"
              />
            }
          />
        </Route>
      </Routes>
      {lost && <SignInAgain technician={technician} />}
    </CurrentOrder>
  )
}
