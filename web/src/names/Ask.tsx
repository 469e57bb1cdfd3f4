import { useState } from 'react'
import { problemOf, type View } from '../api/client'
import { Alert } from '../parts/Alert'
import { FindingCard } from '../parts/FindingCard'
import { SmallButton } from '../parts/SmallButton'
import type { Page } from '../site/useSitePage'
import { Fall } from './Fall'
import { useAsk, type Asked, type Names, type Question } from './useNames'

type Props = { page: Page; view: View; names: Names; question: Question; set: (to: Partial<Question>) => void }

const types = ['A', 'AAAA', 'CNAME', 'PTR', 'MX', 'TXT', 'SRV', 'CAA', 'NS', 'SOA']
const groups: [string, string][] = [
  ['networks', 'A client nobody knows'],
  ['clients', 'Clients'],
  ['devices', 'Devices'],
  ['outside', 'Outside'],
]

/** Who asks what, and what comes of it. */
export function Ask({ page, view, names, question, set }: Props) {
  const who = question.who || (names.askers[0]?.ref ?? '')
  const order = question.against ? undefined : view.order?.id
  const asked = useAsk(page.code, order, who, question)
  const beside = useAsk(page.code, order, question.beside, besideIt(question, asked.data?.name))
  const [typed, setTyped] = useState(question.name)
  const [was, setWas] = useState(question.name)
  if (was !== question.name) {
    setWas(question.name)
    setTyped(question.name)
  }
  const problem = asked.error && problemOf(asked.error)
  const answer = problem || !question.name ? undefined : asked.data
  return (
    <section aria-label="Ask">
      <div className="flex items-baseline gap-2">
        <h2 data-title tabIndex={-1} className="!text-ink !text-[18px]">
          Ask
        </h2>
        <kbd>q</kbd>
        <Against view={view} question={question} set={set} />
      </div>
      <form
        className="mt-2.5 grid grid-cols-[1fr_76px] gap-2"
        onSubmit={(e) => {
          e.preventDefault()
          set({ name: typed.trim(), who, type: question.type })
          if (typed.trim() === question.name) void asked.refetch()
        }}
      >
        <Labelled label="Who asks">
          <Askers label="Who asks" names={names} value={who} onChange={(to) => set({ who: to })} />
        </Labelled>
        <Labelled label="Type">
          <select
            aria-label="Type"
            className="field mono"
            value={question.type}
            onChange={(e) => set({ type: e.target.value })}
          >
            {types.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </Labelled>
        <Labelled label="What they type">
          <input
            id="ask-name"
            aria-label="What they type"
            className="field mono"
            autoComplete="off"
            spellCheck={false}
            aria-invalid={problem?.fields.name ? true : undefined}
            aria-describedby="ask-says"
            value={typed}
            onFocus={(e) => e.target.select()} // typing takes the place of what was asked last
            onChange={(e) => setTyped(e.target.value)}
          />
        </Labelled>
        <button className="btn self-end">Ask</button>
      </form>
      <div id="ask-says">
        {problem ? (
          <Alert className="mt-2">{Object.values(problem.fields)[0] ?? problem.message}</Alert>
        ) : (
          !question.name && (
            <p className="text-[12.5px] text-ink-3 mt-1.5">A name as they would type it, or an address</p>
          )
        )}
      </div>
      <p role="status" className="sr-only">
        {answer && spoken(answer)}
      </p>
      {answer && (
        <>
          <Fall answer={answer} />
          <WhyNot answer={answer} page={page} />
          <h3 className="text-[12.5px] text-ink-2 font-semibold mt-4">The same question from two places</h3>
          <div className="grid grid-cols-2 mt-1 border border-seam">
            <Compact answer={answer} />
            <div className="border-l border-seam p-2 min-w-0 [overflow-wrap:anywhere]">
              <Askers
                label="Beside it asks"
                names={names}
                value={question.beside}
                onChange={(to) => set({ beside: to })}
              />
              {beside.data && <Told answer={beside.data} />}
            </div>
          </div>
        </>
      )}
    </section>
  )
}

/** The same question from another place. Outside nobody completes a name: the whole one is asked for there. */
function besideIt(question: Question, whole?: string): Question {
  if (question.beside !== 'internet') return question
  return {
    ...question,
    name: question.name && whole ? `${whole}.` : question.name,
    against: question.against === 'live' ? 'site' : question.against,
  }
}

/** An answer as a screen reader says it. */
function spoken(a: Asked): string {
  return `${a.name}: ${a.outcome === 'answer' ? a.values.join(', ') : a.outcome}`
}

/** What the question is put to: the draft, the site as it stands, or its devices. */
function Against({ view, question, set }: Pick<Props, 'view' | 'question' | 'set'>) {
  return (
    <span className="ml-auto text-[12.5px] text-ink-2">
      <select
        aria-label="Against"
        className="field !w-auto !h-[26px] !text-[12.5px]"
        value={view.order || question.against !== 'site' ? question.against : ''}
        onChange={(e) => set({ against: e.target.value })}
      >
        <option value="">{view.order ? 'against the draft' : 'as the site stands'}</option>
        {view.order && <option value="site">as the site stands</option>}
        <option value="live">live, of the devices</option>
      </select>
    </span>
  )
}

function Labelled({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div>
      <span aria-hidden className="block text-[12px] text-ink-2 mb-0.5">
        {label}
      </span>
      {children}
    </div>
  )
}

function Askers({
  label,
  names,
  value,
  onChange,
}: {
  label: string
  names: Names
  value: string
  onChange: (ref: string) => void
}) {
  return (
    <select aria-label={label} className="field" value={value} onChange={(e) => onChange(e.target.value)}>
      {groups.map(([group, label]) => (
        <optgroup key={group} label={label}>
          {names.askers
            .filter((a) => a.group === group)
            .map((a) => (
              <option key={a.ref} value={a.ref}>
                {a.label}
              </option>
            ))}
        </optgroup>
      ))}
    </select>
  )
}

/** What keeps the question from an answer, with what would make one. */
function WhyNot({ answer, page }: { answer: Asked; page: Page }) {
  const { whyNot, form } = answer
  if (!whyNot && !form) return null
  return (
    <div className="mt-3">
      <h3 className="text-[12.5px] text-ink-2 font-semibold">Why not</h3>
      {whyNot && (
        <FindingCard
          finding={whyNot}
          busy={page.busy}
          onFix={(other) => page.change({ fix: whyNot.id, other: other || undefined })}
          onFixAll={() => page.ask({ kind: 'fixAll', rule: whyNot.rule })}
        />
      )}
      {form && (
        <SmallButton
          className="mt-1 !h-auto !whitespace-normal text-left [overflow-wrap:anywhere]"
          onClick={() => page.ask({ kind: 'form', form })}
        >
          {form.title}
        </SmallButton>
      )}
    </div>
  )
}

function Compact({ answer }: { answer: Asked }) {
  return (
    <div className="p-2 min-w-0">
      <p className="font-semibold [overflow-wrap:anywhere] min-h-[32px]">{answer.who}</p>
      <Told answer={answer} />
    </div>
  )
}

function Told({ answer: a }: { answer: Asked }) {
  return (
    <>
      <p className="mono mt-1 [overflow-wrap:anywhere]">{a.outcome === 'answer' ? a.values.at(-1) : a.outcome}</p>
      <p className="text-[12px] text-ink-2 [overflow-wrap:anywhere]">
        {a.steps.filter((s) => s.state !== 'passed').at(-1)?.title}
      </p>
    </>
  )
}
