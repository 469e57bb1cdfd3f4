import type { Schemas } from '../api/client'
import { plural } from '../parts/plural'
import { When } from '../parts/When'

type Following = Schemas['Following']

/** What a line had above what the world was told of its name, a day at most; where they differ it is marked. */
export function Tracks({ of }: { of: Following }) {
  const several = of.tracks.length > 1
  return (
    <div className="grid gap-1" role="group" aria-label={`${of.name}, what its line had and what was told`}>
      {of.tracks.map((t) => (
        <div key={t.type} className="grid gap-1">
          {several && <span className="text-[11.5px] text-ink-3">{t.type === 'A' ? 'IPv4' : 'IPv6'}</span>}
          <Track label="The line had" spans={t.had} tone="border-malachite bg-malachite-t" />
          <Track label="The world was told" spans={t.atServer} tone="border-azurite bg-azurite-t" />
        </div>
      ))}
      <span className="flex justify-between text-[11.5px] text-ink-3">
        <When at={of.begins} clock />
        <span>now</span>
      </span>
    </div>
  )
}

function Track({ label, spans, tone }: { label: string; spans: Schemas['FollowedSpan'][]; tone: string }) {
  return (
    <div className="relative h-[20px] bg-slab border border-seam-2 overflow-hidden">
      <span className="sr-only">
        {label}: {spans.map((s) => `${s.address}${s.wrong ? ', the wrong one' : ''}`).join(', then ') || 'nothing'}
      </span>
      {spans.map((s) => (
        <span
          key={`${s.address}${s.from}`}
          aria-hidden
          title={`${label} ${s.address}`}
          className={
            'absolute inset-y-0 border overflow-hidden mono text-[11px] leading-[17px] px-1 ' +
            (s.wrong ? 'border-cinnabar bg-cinnabar-t text-cinnabar-ink border-2' : tone)
          }
          style={{ left: `${s.from * 100}%`, width: `${(s.to - s.from) * 100}%` }}
        >
          {s.to - s.from > 0.12 ? s.address : ''}
        </span>
      ))}
    </div>
  )
}

const marks: Record<string, [string, string]> = {
  follows: ['follows', 'text-malachite-ink'],
  wrong: ['■ told the wrong address', 'text-cinnabar-ink'],
  untold: ['▲ never told', 'text-sand-ink'],
  unreached: ['■ not reachable from the internet', 'text-cinnabar-ink'],
  off: ['switched off', 'text-ink-2'],
  unknown: ['not read yet', 'text-ink-2'],
}

/** How a name stands, in a word, with since when. */
export function Standing({ of }: { of: Following }) {
  const [words, tone] = marks[of.state] ?? ['', '']
  return (
    <span className={tone} title={of.says}>
      {words}
      {of.since && (
        <>
          {of.state === 'follows' ? ', read ' : ', since '}
          <When at={of.since} clock={of.state !== 'follows'} />
        </>
      )}
    </span>
  )
}

/** What else somebody should see of a name. */
export function Notices({ of }: { of: Following }) {
  const tones = { blocks: 'text-cinnabar-ink', warns: 'text-sand-ink', notes: 'text-ink-2' }
  if (of.notices.length === 0) return null
  return (
    <ul className="mt-1 text-[12.5px]" aria-label={`What else is wrong with ${of.name}`}>
      {of.notices.map((n) => (
        <li key={n.kind + n.says} className={tones[n.severity]}>
          {n.says}
        </li>
      ))}
    </ul>
  )
}

/** Who keeps a name and with which key, and how long others keep what they were told. */
export function Keeping({ of }: { of: Following }) {
  const { key } = of
  return (
    <dl className="grid grid-cols-[92px_1fr] text-[13.5px] mb-2">
      <dt className="text-ink-3 py-0.5">Told by</dt>
      <dd className="py-0.5">{of.keptBy}</dd>
      {key && (
        <>
          <dt className="text-ink-3 py-0.5">Its key</dt>
          <dd className="py-0.5 [overflow-wrap:anywhere]">
            <KeyUse of={key} />
          </dd>
        </>
      )}
      {of.proposed !== undefined && of.proposed !== of.ttl && (
        <>
          <dt className="text-ink-3 py-0.5">TTL</dt>
          <dd className="py-0.5">
            {of.ttl} s; for how often its line changes {of.proposed} s would do
          </dd>
        </>
      )}
    </dl>
  )
}

/** What a key may do, how long yet, and how it was used. */
export function KeyUse({ of }: { of: Schemas['OutsideKey'] }) {
  return (
    <>
      {of.may}
      <span className={`block text-[12.5px] ${of.ending ? 'text-sand-ink' : 'text-ink-2'}`}>
        {of.used ? (
          <>
            used {of.uses === 1 ? 'once' : plural(of.uses, 'time')}, last <When at={of.used} />
          </>
        ) : (
          'not used yet'
        )}
        {of.ends && (
          <>
            {new Date(of.ends) > new Date() ? ' · ends ' : ' · ended '}
            <When at={of.ends} />
          </>
        )}
      </span>
    </>
  )
}

/** What was sent, the newest first, with the reason of a refusal. */
export function Attempts({ of }: { of: Following }) {
  if (of.attempts.length === 0) return <p className="text-ink-2 mt-2">Nothing has been sent yet.</p>
  return (
    <ol className="mt-2" aria-label="What was sent">
      {of.attempts.map((a) => (
        <li key={a.at + a.address} className="flex gap-2 py-1 border-b border-seam-2 text-[12.5px]">
          <When at={a.at} clock />
          <span className="mono">{a.address}</span>
          <span className={`ml-auto ${a.taken ? 'text-malachite-ink' : 'text-cinnabar-ink'}`}>
            {a.taken ? 'taken' : a.says}
          </span>
        </li>
      ))}
    </ol>
  )
}
