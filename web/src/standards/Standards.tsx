import { useState } from 'react'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useStandards } from '../api/queries'
import { usePageTitle } from '../frame/usePageTitle'
import { Empty } from '../parts/Empty'
import { When } from '../parts/When'
import { EditLevel } from './EditLevel'
import { Loading } from '../parts/Loading'

type Level = Schemas['LevelView']

/** The addressing standards and the customers' options, as they are kept for all sites, and who has them. */
export function Standards() {
  const standards = useStandards()
  const [editing, setEditing] = useState<Level | 'new'>()
  usePageTitle('Standards')
  if (standards.error) return <Empty title="Standards cannot be shown" says={standards.error.message} />
  if (!standards.data) return <Loading of="Standards" />
  const of = (kind: string) => standards.data.filter((l) => l.kind === kind)
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="max-w-[1000px]">
        <div className="flex flex-wrap items-baseline gap-3">
          <h1>Standards</h1>
          <button className="btn ml-auto" onClick={() => setEditing('new')}>
            Add a standard
          </button>
        </div>
        <p className="text-ink-2 mt-1">
          How networks, ranges and options are laid out at sites of one kind. Each is kept once, for all sites; a site
          has what it was last given, and says so where that is another form.
        </p>
        {of('standard').length === 0 && (
          <Empty
            inside
            title="There is no standard yet"
            says="Add one; a new site can follow it, and the fix of a finding brings it to others."
          />
        )}
        {of('standard').map((l) => (
          <LevelRow key={l.standard.id} level={l} onEdit={() => setEditing(l)} />
        ))}
        {of('customer').length > 0 && (
          <>
            <h2 className="!text-[15px] !text-ink mt-8">Customers</h2>
            <p className="text-ink-2 mt-1">Options for every site of a customer; they outweigh those of a standard.</p>
            {of('customer').map((l) => (
              <LevelRow key={l.standard.id} level={l} onEdit={() => setEditing(l)} />
            ))}
          </>
        )}
      </div>
      {editing && <EditLevel level={editing === 'new' ? undefined : editing} onClose={() => setEditing(undefined)} />}
    </div>
  )
}

function LevelRow({ level: l, onEdit }: { level: Level; onEdit: () => void }) {
  const sets = l.words.windows.length + l.words.options.length > 0
  return (
    <section
      aria-label={l.standard.name}
      className="mt-5 border-t border-seam pt-3 grid min-[820px]:grid-cols-[200px_1fr_1fr] gap-5"
    >
      <div>
        <h2 className="!text-ink !text-[15px]">{l.standard.name}</h2>
        {l.differs.length > 0 && (
          <p className="text-sand-ink text-[12.5px] mt-1">▲ Another form of it at {l.differs.join(', ')}</p>
        )}
        {l.changedAt && (
          <p className="text-ink-3 text-[12.5px] mt-1">
            changed <When at={l.changedAt} /> by {l.changedBy}
          </p>
        )}
        <button className="btn !h-[28px] mt-2" aria-label={`Change ${l.standard.name}`} onClick={onEdit}>
          Change
        </button>
      </div>
      <div>
        <h2>Sets</h2>
        <ul className="mt-1">
          {l.words.windows.map((w) => (
            <li key={w}>{w}</li>
          ))}
          {l.words.options.map((o) => (
            <li key={o.code}>
              {o.name}: <span className="mono">{o.value}</span> <span className="text-ink-3">(option {o.code})</span>
            </li>
          ))}
          {l.standard.domain && (
            <li>
              domain of a new site: <span className="mono">{l.standard.domain}</span>
            </li>
          )}
          {!sets && <li className="text-ink-2">nothing yet</li>}
        </ul>
      </div>
      <div>
        <h2>{l.kind === 'standard' ? 'Followed by' : 'Its sites'}</h2>
        <ul className="mt-1">
          {l.sites.map((at) => (
            <li key={at.code}>
              <Link className="hover:underline inline-block py-[3px]" to={`/sites/${at.code}`}>
                {at.name}
              </Link>
            </li>
          ))}
          {l.sites.length === 0 && <li className="text-ink-2">no site yet</li>}
        </ul>
      </div>
    </section>
  )
}
