import { useState } from 'react'
import { api, call, type Schemas } from '../api/client'
import { useOrderAct } from '../api/queries'
import { announce } from '../parts/announce'
import { Field, Lines } from '../parts/Field'
import { useNow } from '../parts/useNow'
import { When } from '../parts/When'

/** A moment as a field for times takes it, in a time zone. */
const local = (at: string | undefined, zone: string) => {
  if (!at) return ''
  const parts = new Intl.DateTimeFormat('sv-SE', {
    timeZone: zone || undefined,
    dateStyle: 'short',
    timeStyle: 'short',
  }).format(new Date(at))
  return parts.replace(' ', 'T')
}

const spoken = (at: string, zone: string) =>
  new Date(at).toLocaleString('en-GB', { timeZone: zone || undefined, dateStyle: 'medium', timeStyle: 'short' })

/** How long it is till the window opens, or ends. */
function Till({ head }: { head: Schemas['Head'] }) {
  const now = useNow(15_000)
  const yet = (at: string | undefined) => at !== undefined && new Date(at).getTime() > now
  if (head.notBefore && yet(head.notBefore))
    return (
      <>
        . It opens <When at={head.notBefore} />.
      </>
    )
  if (head.notAfter && yet(head.notAfter))
    return (
      <>
        . It is open, and ends <When at={head.notAfter} />.
      </>
    )
  return head.notAfter ? '. It has ended.' : head.notBefore ? '. It is open.' : null
}

/** What an order is for, and from when to when it may be pushed; it can be left to start automatically. */
export function ChangeWindow({ head, zone }: { head: Schemas['Head']; zone: string }) {
  const { act, problem, busy } = useOrderAct(head.id)
  const [editing, setEditing] = useState(false)
  const [typed, setTyped] = useState({ note: '', notBefore: '', notAfter: '' })
  const open = head.state === 'open'
  const save = async () => {
    const done = await act(() =>
      call(api.PUT('/api/orders/{order}/window', { params: { path: { order: head.id } }, body: typed })),
    )
    if (done) {
      setEditing(false)
      announce('The window is set')
    }
  }
  const wait = async (on: boolean) => {
    const done = await act(() =>
      call(
        api.POST('/api/orders/{order}/wait', {
          params: { path: { order: head.id } },
          body: { version: head.version, on },
        }),
      ),
    )
    if (done) announce(on ? 'It starts automatically when the window opens' : 'It does not start automatically')
  }
  const says = [
    head.notBefore && `not before ${spoken(head.notBefore, zone)}`,
    head.notAfter && `not after ${spoken(head.notAfter, zone)}`,
  ].filter(Boolean)
  const waitable = open && head.notBefore !== undefined && !head.waits
  return (
    <section aria-label="When" className="mt-5">
      <h2>When</h2>
      {head.note && <p className="mt-1 whitespace-pre-line [overflow-wrap:anywhere]">{head.note}</p>}
      <p className="mt-1">
        {says.length > 0 ? `Change window: ${says.join(', ')}` : 'No change window: it can be pushed at any time.'}
        {open && <Till head={head} />}
      </p>
      {head.waits && (
        <p className="mt-1">
          <b>Starts automatically</b>, left by {head.waits}
          {head.rehearsed ? '.' : ', once it is rehearsed again: it was changed since.'}
        </p>
      )}
      {head.waited && (
        <p role="alert" className="mt-1 text-cinnabar-ink">
          {head.waited}
        </p>
      )}
      {problem && (
        <p role="alert" className="mt-1 text-cinnabar-ink">
          {problem}
        </p>
      )}
      {open && !editing && (
        <p className="flex flex-wrap gap-1.5 mt-2">
          <button
            className="btn !h-[28px]"
            onClick={() => {
              setTyped({
                note: head.note ?? '',
                notBefore: local(head.notBefore, zone),
                notAfter: local(head.notAfter, zone),
              })
              setEditing(true)
            }}
          >
            Note and change window
          </button>
          {waitable && (
            <button className="btn !h-[28px]" disabled={busy} onClick={() => void wait(true)}>
              Leave it to start automatically
            </button>
          )}
          {head.waits && (
            <button className="btn !h-[28px]" disabled={busy} onClick={() => void wait(false)}>
              Do not start automatically
            </button>
          )}
        </p>
      )}
      {editing && (
        <form
          aria-label="When it is pushed"
          className="grid gap-2 mt-2"
          onSubmit={(e) => {
            e.preventDefault()
            void save()
          }}
        >
          <Lines
            label="Note"
            value={typed.note}
            autoFocus
            onChange={(e) => setTyped({ ...typed, note: e.target.value })}
          />
          <Field
            label="Not before"
            hint={`In ${zone || 'the site’s time zone'}, for example 2026-11-27T22:30`}
            mono
            value={typed.notBefore}
            onChange={(e) => setTyped({ ...typed, notBefore: e.target.value })}
          />
          <Field
            label="Not after"
            mono
            value={typed.notAfter}
            onChange={(e) => setTyped({ ...typed, notAfter: e.target.value })}
          />
          <span className="flex gap-1.5">
            <button className="btn !h-[28px] btn-next" disabled={busy}>
              Set it
            </button>
            <button type="button" className="btn !h-[28px]" onClick={() => setEditing(false)}>
              Cancel
            </button>
          </span>
        </form>
      )}
    </section>
  )
}
