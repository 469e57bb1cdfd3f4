import { useState } from 'react'
import { Copy } from '../parts/Copy'
import { Dotted } from '../parts/Values'
import type { Asked } from './useNames'

const marks: Record<string, string> = {
  answered: 'bg-azurite border-azurite',
  followed: 'bg-azurite border-azurite',
  passed: 'bg-sheet border-ink-3',
  stopped: 'bg-cinnabar border-cinnabar',
  beyond: 'bg-sand-t border-sand',
}
const states: Record<string, string> = {
  answered: 'answered here',
  followed: 'went on',
  passed: 'fell through',
  stopped: 'stopped here',
  beyond: 'left the site',
}
const outcomes: Record<string, string> = {
  nothing: 'No such record',
  'no such name': 'No such name',
  refused: 'Refused',
  failed: 'The server failed',
  'no answer': 'Nobody answers',
  'not known': 'Not known here',
  'no servers': 'Told no name server',
}

/** How a question fell through the layers, and what came of it. */
export function Fall({ answer: a }: { answer: Asked }) {
  const found = a.outcome === 'answer'
  const last = a.values.at(-1) ?? ''
  return (
    <>
      <ol className="mt-3.5" aria-label="The way of the question">
        {a.steps.map((s, i) => (
          <li key={i} className="relative pl-7 pb-3">
            <span
              aria-hidden
              className={`absolute left-0 top-1 w-[13px] h-[13px] border-2 ${marks[s.state] ?? ''} z-10`}
            />
            <span aria-hidden className="absolute left-1.5 top-3 bottom-[-6px] w-px bg-seam" />
            <p className="font-semibold [overflow-wrap:anywhere] first-letter:uppercase">
              {s.title}
              <span className="sr-only">, {states[s.state]}</span>
            </p>
            {s.says && <p className="text-ink-2 text-[12.5px] [overflow-wrap:anywhere]">{s.says}</p>}
          </li>
        ))}
        <li className="relative pl-7">
          <span
            aria-hidden
            className={
              'absolute left-0 top-1 w-[13px] h-[13px] border-2 ' +
              (found ? 'bg-lichen border-ink' : 'bg-sheet border-cinnabar')
            }
          />
          {found ? (
            <p>
              <Copy text={last} className="mono font-bold">
                <Dotted text={last} />
              </Copy>
            </p>
          ) : (
            <p className={`font-semibold ${a.outcome === 'not known' ? '' : 'text-cinnabar-ink'}`}>
              {outcomes[a.outcome] ?? a.outcome}
            </p>
          )}
          {a.values.length > 1 && (
            <p className="text-ink-2 text-[12.5px] mono [overflow-wrap:anywhere]">{a.values.join(' → ')}</p>
          )}
          {a.message && <Wire answer={a} message={a.message} />}
        </li>
      </ol>
    </>
  )
}

/** The message on the wire: how large it is, and what each of its octets says. */
function Wire({ answer, message: m }: { answer: Asked; message: NonNullable<Asked['message']> }) {
  const [open, setOpen] = useState(false)
  const octets = m.bytes.match(/../g) ?? []
  return (
    <>
      <button
        className="text-ink-2 text-[12.5px] hover:underline text-left"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {m.records} {m.records === 1 ? 'record' : 'records'}, {m.size} octets
        {m.authoritative ? ', authoritative' : ''}
        {m.truncated ? ', cut off: asked again over TCP' : ''}
        {answer.ttl ? ` · TTL ${answer.ttl} s` : ''}
      </button>
      {open && (
        <ul className="mt-1 border border-seam-2 max-h-[260px] overflow-auto" tabIndex={0} aria-label="Its octets">
          {m.marks.map((k, i) => (
            <li key={k.from} className={`px-2 py-0.5 ${i % 2 ? 'bg-slab' : ''}`}>
              <span className="flex justify-between gap-2 text-[12px] text-ink-2">
                <span>{k.what}</span>
                <span className="text-ink text-right [overflow-wrap:anywhere]">{k.says}</span>
              </span>
              <span className="mono text-[11px] text-ink-3 [overflow-wrap:anywhere]">
                {octets.slice(k.from, k.to).join(' ')}
              </span>
            </li>
          ))}
        </ul>
      )}
    </>
  )
}
