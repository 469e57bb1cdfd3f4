import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { Notices, Standing, Tracks } from '../names/Tracks'
import { Empty } from '../parts/Empty'
import { plural } from '../parts/plural'
import { Loading } from '../parts/Loading'

const every = 15_000 // ms; lines are read by each process that watches

/** The names of all sites that follow lines; watched, they are asked for again and again. */
export const useFollowing = (watched: boolean) =>
  useQuery({
    queryKey: ['sites', 'following'],
    queryFn: () => call(api.GET('/api/following')),
    staleTime: every,
    refetchInterval: watched ? every : false,
  })

type Following = Schemas['Following']

/** Whether the world does not come to the line by a name. */
const astray = (n: Following) => ['wrong', 'untold', 'unreached'].includes(n.state)

/** Whether somebody should look at a name. */
export const needsLook = (n: Following) => astray(n) || n.notices.length > 0

const kinds: [label: string, is: (n: Following) => boolean][] = [
  ['told the wrong address', (n) => n.state === 'wrong'],
  ['never told', (n) => n.state === 'untold'],
  ['not reachable from the internet', (n) => n.state === 'unreached'],
  ['with a key too wide', (n) => has(n, 'ddns-key-too-wide')],
  ['with a key that was never used', (n) => has(n, 'key-unused')],
  ['with a key about to end', (n) => has(n, 'ddns-key-ending')],
  ['kept by nobody', (n) => has(n, 'ddns-nobody-keeps')],
]

const has = (n: Following, kind: string) => n.notices.some((notice) => notice.kind === kind)

/** How many names there are of each kind that needs attention. */
function Tally({ of }: { of: Following[] }) {
  const counted = kinds.map(([label, is]) => [label, of.filter(is).length] as const).filter(([, n]) => n > 0)
  if (counted.length === 0) return null
  return (
    <ul className="ml-auto flex flex-wrap gap-x-3 text-[12.5px] text-ink-2" aria-label="What needs attention">
      {counted.map(([label, n]) => (
        <li key={label}>
          {n} {label}
        </li>
      ))}
    </ul>
  )
}

/** Every dynamic name: what the line had, and what the world was told. */
export function FollowingPage() {
  const names = useFollowing(true)
  usePageTitle('Dynamic names')
  if (names.error) return <Empty title="The names cannot be shown" says={names.error.message} />
  if (!names.data) return <Loading of="Dynamic names" />
  const troubled = names.data.filter(needsLook).length
  const rank = (n: Following) => (astray(n) ? 0 : n.notices.length > 0 ? 1 : 2)
  const list = [...names.data].sort((a, b) => rank(a) - rank(b))
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="flex items-baseline gap-4 flex-wrap">
        <h1>Dynamic names</h1>
        <span className="text-ink-2">
          {plural(list.length, 'name')}
          {troubled > 0 && `, ${plural(troubled, 'needs', 'need')} attention`}
        </span>
        <Tally of={list} />
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
        <p className="mt-4">No site has a dynamic name. Open a site, its Names and an outside zone, and add one.</p>
      )}
      <ul>
        {list.map((n) => (
          <li key={n.site + n.ref} className="border-t border-seam mt-3 pt-3">
            <div className="flex items-baseline gap-3 flex-wrap mb-1.5">
              <Link
                className="mono font-semibold hover:underline"
                to={`/sites/${n.site}?face=names&select=${encodeURIComponent(n.ref)}&layer=${n.zone}`}
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
            {astray(n) && <p className="text-[12.5px] text-cinnabar-ink mt-1">{n.says}</p>}
            <Notices of={n} />
          </li>
        ))}
      </ul>
    </div>
  )
}
