import { Link } from 'react-router'
import { useStandards } from '../api/queries'
import { usePageTitle } from '../frame/usePageTitle'
import { Empty } from '../parts/Empty'

/** The addressing standards, what they set and who follows them. */
export function Standards() {
  const standards = useStandards()
  usePageTitle('Standards')
  if (standards.error) return <Empty title="Standards cannot be shown" says={standards.error.message} />
  if (!standards.data) return null
  return (
    <div className="bg-sheet min-h-full px-5 py-4 max-w-[1000px]">
      <h1>Standards</h1>
      <p className="text-ink-2 mt-1">
        How networks, ranges and options are laid out at sites of one kind. A standard is part of the site file; change
        it there and import the file.
      </p>
      {standards.data.length === 0 && (
        <Empty inside title="No site follows a standard" says="Give a site file a standard, then import it." />
      )}
      {standards.data.map((s) => (
        <section key={s.id} className="mt-5 border-t border-seam pt-3 grid min-[820px]:grid-cols-[200px_1fr_1fr] gap-5">
          <div>
            <h2 className="!text-ink !text-[15px]">{s.name}</h2>
            {s.differs.length > 0 && (
              <p className="text-sand-ink text-[12.5px] mt-1">▲ Another copy of it at {s.differs.join(', ')}</p>
            )}
          </div>
          <div>
            <h2>Sets</h2>
            <ul className="mt-1">
              {s.windows.map((w) => (
                <li key={w}>{w}</li>
              ))}
              {s.options.map((o) => (
                <li key={o.code}>
                  {o.name}: <span className="mono">{o.value}</span>{' '}
                  <span className="text-ink-3">(option {o.code})</span>
                </li>
              ))}
            </ul>
          </div>
          <div>
            <h2>Followed by</h2>
            <ul className="mt-1">
              {s.sites.map((l) => (
                <li key={l.code}>
                  <Link className="hover:underline inline-block py-[3px]" to={`/sites/${l.code}`}>
                    {l.name}
                  </Link>
                </li>
              ))}
            </ul>
          </div>
        </section>
      ))}
    </div>
  )
}
