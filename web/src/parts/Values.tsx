import type { Schemas } from '../api/client'
import { Copy } from './Copy'

/** Labelled values; addresses, MACs and names are copied by a click. */
export function Values({ facts }: { facts: Schemas['Fact'][] }) {
  return (
    <dl className="grid grid-cols-[92px_1fr] items-center text-[13.5px]">
      {facts.map((f, n) => (
        <div key={n} className="contents">
          <dt className="text-ink-3 py-0.5 self-start">{f.label}</dt>
          <dd className={f.mono ? 'mono' : ''}>
            {f.mono ? (
              <Copy text={f.value}>
                <Dotted text={f.value} />
              </Copy>
            ) : (
              f.value
            )}
          </dd>
        </div>
      ))}
    </dl>
  )
}

/** Words in little room: a name may break after its dots, an address stays whole. */
export function Worded({ text }: { text: string }) {
  return text.split(' ').map((word, n) => (
    <span key={n}>
      {n > 0 && ' '}
      {/[a-z]/i.test(word) ? <Dotted text={word} /> : <span className="whitespace-nowrap">{word}</span>}
    </span>
  ))
}

/** A long name may break after its dots. */
export function Dotted({ text }: { text: string }) {
  return text.split('.').map((part, n) =>
    n ? (
      <span key={n}>
        .<wbr />
        {part}
      </span>
    ) : (
      part
    ),
  )
}
