import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, call } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { Standing, Tracks } from '../names/Tracks'
import { Empty } from '../parts/Empty'
import { plural } from '../parts/plural'

const every = 15_000 // ms; lines are read by each process that watches

/** The names of all sites that follow lines; watched, they are asked for again and again. */
export const useFollowing = (watched: boolean) =>
  useQuery({
    queryKey: ['sites', 'following'],
    queryFn: () => call(api.GET('/api/following')),
    staleTime: every,
    refetchInterval: watched ? every : false,
  })

/** Every outside name that follows a line: what the line had, and what the world was told. */
export function FollowingPage() {
  const names = useFollowing(true)
  usePageTitle('Names that follow a line')
  if (names.error) return <Empty title="The names cannot be shown" says={names.error.message} />
  if (!names.data) return null
  const troubled = names.data.filter((n) => n.state === 'wrong' || n.state === 'unreached').length
  const rank = (state: string) => (state === 'wrong' || state === 'unreached' ? 0 : 1)
  const list = [...names.data].sort((a, b) => rank(a.state) - rank(b.state))
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="flex items-baseline gap-4 flex-wrap">
        <h1>Names that follow a line</h1>
        <span className="text-ink-2">
          {plural(list.length, 'name')}
          {troubled > 0 && `, ${plural(troubled, 'needs', 'need')} a look`}
        </span>
      </div>
      <p className="flex flex-wrap gap-4 text-[12.5px] text-ink-2 mt-1.5">
        <span>
          <span aria-hidden className="inline-block w-3 h-2 bg-malachite mr-1" />
          above: what the line had
        </span>
        <span>
          <span aria-hidden className="inline-block w-3 h-2 bg-azurite mr-1" />
          below: what the world was told
        </span>
        <span>
          <span aria-hidden className="inline-block w-1.5 h-3 bg-cinnabar mr-1 align-middle" />
          the wrong one
        </span>
      </p>
      {list.length === 0 && (
        <p className="mt-4">
          No site has an outside name that follows a line. Open a site, its Names and an outside zone, and let one
          follow.
        </p>
      )}
      <ul>
        {list.map((n) => (
          <li key={n.site + n.ref} className="border-t border-seam mt-3 pt-3">
            <div className="flex items-baseline gap-3 flex-wrap mb-1.5">
              <Link
                className="mono font-semibold hover:underline"
                to={`/sites/${n.site}?face=names&select=${encodeURIComponent(n.ref)}&stratum=${n.zone}`}
              >
                {n.name}
              </Link>
              <span className="text-[12.5px] text-ink-2">
                {n.siteName} · {n.line}
                {n.address && <span className="mono"> {n.address}</span>}
              </span>
              <span className="ml-auto">
                <Standing of={n} />
              </span>
            </div>
            <Tracks of={n} />
            {(n.state === 'wrong' || n.state === 'unreached') && (
              <p className="text-[12.5px] text-cinnabar-ink mt-1">{n.says}</p>
            )}
          </li>
        ))}
      </ul>
    </div>
  )
}
