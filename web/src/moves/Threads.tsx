import { useState } from 'react'
import { Table, type Column } from '../parts/Table'
import type { Plan } from './useMove'

const columns: Column[] = [['Whose', '30%'], ['Was', '20%'], ['Will be', '24%'], ['Why there']]

/** Each old address with the new one, which can be typed. */
export function Threads({
  plan,
  typed,
  error,
}: {
  plan: Plan
  typed: (network: string, from: string, to: string) => void
  error: (from: string) => string | undefined
}) {
  const [open, setOpen] = useState(false)
  if (plan.threads.length === 0) return null
  const odd = plan.threads.filter((t) => t.odd || t.typed || error(t.from))
  const rows = open ? plan.threads : odd
  return (
    <section aria-label="Addresses" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>Addresses</h2>
        <button
          className="underline"
          aria-expanded={open}
          onClick={() => {
            setOpen(!open)
          }}
        >
          {open ? 'Only those that are not by the rule' : `All ${plan.threads.length}, to type another`}
        </button>
      </div>
      {rows.length > 0 && (
        <Table columns={columns} className="mt-1">
          <tbody>
            {rows.map((t) => (
              <tr key={t.from}>
                <td className="list-cell">{t.what}</td>
                <td className="list-cell mono">{t.from}</td>
                <td className="list-cell">
                  <To key={t.to} thread={t} typed={typed} wrong={!!error(t.from)} />
                </td>
                <td className="list-cell text-cinnabar-ink whitespace-normal">
                  {error(t.from) ?? t.odd}
                  {t.typed && <span className="text-ink-2">typed</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  )
}

function To({
  thread: t,
  typed,
  wrong,
}: {
  thread: Plan['threads'][number]
  typed: (network: string, from: string, to: string) => void
  wrong: boolean
}) {
  const [text, setText] = useState(t.to)
  const send = () => {
    if (text.trim() !== t.to || wrong) typed(t.network, t.from, text.trim())
  }
  return (
    <input
      className="field mono !h-[26px]"
      aria-label={`New address of ${t.what}, ${t.from}`}
      aria-invalid={wrong || undefined}
      value={text}
      onChange={(e) => {
        setText(e.target.value)
      }}
      onBlur={send}
      onKeyDown={(e) => {
        if (e.key === 'Enter') send()
      }}
    />
  )
}
