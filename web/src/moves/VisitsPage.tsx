import { useEffect } from 'react'
import { Link, useParams } from 'react-router'
import { usePageTitle } from '../frame/usePageTitle'
import { Announcer } from '../frame/Announcer'
import { useMove } from './useMove'
import { Visits } from './Visits'

/** The devices to be visited, for a phone that has no connection everywhere. */
export function VisitsPage() {
  const id = Number(useParams().id)
  const { data: move, error } = useMove(id)
  usePageTitle('To be visited', move?.siteName)
  useEffect(() => {
    // The page opens again where there is no connection.
    if ('serviceWorker' in navigator) void navigator.serviceWorker.register('/visits.js')
  }, [])
  return (
    <main className="bg-sheet min-h-full px-4 py-3 max-w-[560px] mx-auto">
      {!move && error && <p role="alert">{error.message}</p>}
      {move && (
        <>
          <h1 className="!text-[20px]">{move.title}</h1>
          <p className="text-ink-2 mb-3">{move.siteName}</p>
          <Visits move={move} narrow />
          {move.visits.length === 0 && <p>No device of this move holds its address itself.</p>}
          <p className="mt-4">
            <Link className="underline" to={`/moves/${id}`}>
              The whole move
            </Link>
          </p>
        </>
      )}
      <Announcer />
    </main>
  )
}
