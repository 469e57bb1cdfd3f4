import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { Table } from '../parts/Table'
import { When } from '../parts/When'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'
import type { Page } from '../site/useSitePage'
import { AskFirst } from './AskFirst'
import { KeyUse } from './Tracks'

type Keys = Schemas['OutsideKeys']
type Made = Schemas['MadeKey']

const columns = [
  ['Key', '24%'],
  ['May write', undefined],
  ['Used for', '24%'],
  ['Do', '170px'],
] as const

/** The keys of an outside zone at its provider: what each may do, and making, replacing and revoking them. */
export function ZoneKeys({ page, keys }: { page: Page; keys: Keys }) {
  const site = page.code
  const client = useQueryClient()
  const path = { site, zone: keys.zone }
  const [making, setMaking] = useState(false)
  const [made, setMade] = useState<Made>()
  const [ending, setEnding] = useState('')
  const again = () => client.invalidateQueries({ queryKey: ['view'] })
  const replace = useMutation({
    mutationFn: (key: string) =>
      call(api.POST('/api/sites/{site}/zones/{zone}/keys/{key}/replacement', { params: { path: { ...path, key } } })),
    onSuccess: setMade,
    onSettled: again,
  })
  const revoke = useMutation({
    mutationFn: (key: string) =>
      call(api.DELETE('/api/sites/{site}/zones/{zone}/keys/{key}', { params: { path: { ...path, key } } })),
    onSuccess: () => setEnding(''),
    onSettled: again,
  })
  const [says, setSays] = useState('')
  /** A key that something of the site uses is replaced in the draft, wherever it is used. */
  const replaceUsed = (key: string) => {
    setSays('')
    const change = { replace: key, zone: keys.zone }
    if (!page.head) {
      page.ask({ kind: 'change', change })
      return
    }
    page
      .save(change)
      .then(() => setSays(`A new key is in the draft wherever ${key} was used. ${key} is taken for a week yet.`))
      .catch((e: unknown) => setSays(problemOf(e).message))
  }
  const busy = page.busy || replace.isPending || revoke.isPending
  const failed = replace.error ?? revoke.error
  return (
    <section className="mt-6" aria-label="Keys">
      <div className="flex items-baseline gap-3 flex-wrap">
        <h2>Keys</h2>
        <span className="text-ink-2 text-[12.5px]">
          made at <span className="mono">{keys.at}</span>
          {keys.sets.length > 0 && ` · ${plural(keys.sets.length, 'set of records follows', 'sets of records follow')}`}
          {keys.byHand > 0 && ` · ${keys.byHand} written by hand`}
        </span>
        <SmallButton className="ml-auto" onClick={() => setMaking(true)}>
          Make a key
        </SmallButton>
      </div>
      <Alert className="mt-2">{keys.problem && `The keys could not be read: ${keys.problem}.`}</Alert>
      <Alert className="mt-2">{failed && problemOf(failed).message}</Alert>
      <p role="status" className="text-[12.5px] text-ink-2">
        {says}
      </p>
      {keys.keys.length > 0 && (
        <Table columns={columns} className="mt-1">
          <tbody>
            {keys.keys.map((k) => (
              <tr key={k.name}>
                <td className="list-cell mono !whitespace-normal [overflow-wrap:anywhere]" data-label="Key">
                  {k.name}
                </td>
                <td className="list-cell !whitespace-normal [overflow-wrap:anywhere]" data-label="May write">
                  <KeyUse of={k} />
                  {k.wide && <span className="block text-[12.5px] text-sand-ink">more than its name takes</span>}
                  {k.unused && <span className="block text-[12.5px] text-sand-ink">never used</span>}
                </td>
                <td className="list-cell text-ink-2 !whitespace-normal [overflow-wrap:anywhere]" data-label="Used for">
                  {k.for || 'nothing of this site'}
                </td>
                <td className="list-cell">
                  <span className="flex gap-1.5 justify-end">
                    <SmallButton
                      disabled={busy}
                      aria-label={`Replace ${k.name}`}
                      onClick={() => (k.for ? replaceUsed(k.name) : replace.mutate(k.name))}
                    >
                      Replace
                    </SmallButton>
                    <SmallButton disabled={busy} aria-label={`Revoke ${k.name}`} onClick={() => setEnding(k.name)}>
                      Revoke
                    </SmallButton>
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {keys.sets.length > 0 && (
        <ul className="mt-2 text-[12.5px]" aria-label="Records that follow">
          {keys.sets.map((s) => (
            <li key={s.name + s.type} className="py-0.5">
              <span className="mono">{s.name}</span> {s.type} <span className="mono">{s.data.join(', ')}</span>
              <span className="text-ink-2">
                {s.key ? ` written with ${s.key}, ` : ' not written yet'}
                {s.key && s.at && <When at={s.at} />}
              </span>
            </li>
          ))}
        </ul>
      )}
      <Window title={`Revoke ${ending}`} open={ending !== ''} onClose={() => setEnding('')}>
        <p className="mt-2">
          Its server takes nothing more with it, from now on.{' '}
          {keys.keys.find((k) => k.name === ending)?.for
            ? `It is used for ${keys.keys.find((k) => k.name === ending)?.for}: that stays where it is until ` +
              'it has another key.'
            : 'Nothing of this site uses it.'}
        </p>
        <SmallButton className="mt-3" disabled={busy} onClick={() => revoke.mutate(ending)}>
          Revoke it
        </SmallButton>
      </Window>
      {making && (
        <MakeKey
          path={path}
          onClose={() => setMaking(false)}
          onMade={(k) => {
            setMaking(false)
            setMade(k)
            void again()
          }}
        />
      )}
      {made && <Shown made={made} onClose={() => setMade(undefined)} />}
    </section>
  )
}

/** A new key, which nobody can show again. */
function Shown({ made, onClose }: { made: Made; onClose: () => void }) {
  return (
    <Window title={`The key ${made.name}`} open onClose={onClose} wide>
      <p className="mt-2">Copy it now: it is shown this once, and Lithos does not keep it.</p>
      <Field label="The key" mono readOnly value={made.secret} onFocus={(e) => e.target.select()} />
      <p className="text-ink-2 mt-2 text-[12.5px]">
        It signs updates (TSIG, with hmac-sha256 for example) and is the bearer of HTTPS requests.
      </p>
      <SmallButton className="mt-3" onClick={onClose}>
        I have it
      </SmallButton>
    </Window>
  )
}

const nothing = { name: '', names: '', types: 'A, AAAA', updateOnly: 'true', from: '', ends: '' }

function MakeKey(props: { path: { site: string; zone: string }; onClose: () => void; onMade: (k: Made) => void }) {
  const { path, onClose, onMade } = props
  const [typed, setTyped] = useState(nothing)
  const make = useMutation({
    mutationFn: (follow: boolean) =>
      call(
        api.POST('/api/sites/{site}/zones/{zone}/keys', {
          params: { path },
          body: { ...typed, updateOnly: typed.updateOnly === 'true', follow },
        }),
      ),
    onSuccess: onMade,
  })
  const problem = make.error ? problemOf(make.error) : undefined
  const field = (name: keyof typeof nothing, label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      error={problem?.fields[name]}
      mono
      value={typed[name]}
      autoFocus={name === 'name'}
      onChange={(e) => setTyped({ ...typed, [name]: e.target.value })}
    />
  )
  return (
    <Window
      title="Make a key"
      says="Its provider makes it. It may do what stands here and nothing else."
      open
      onClose={onClose}
      filled={typed.name !== '' || typed.names !== ''}
    >
      <form
        className="grid gap-3 mt-3"
        onSubmit={(e) => {
          e.preventDefault()
          make.mutate(false)
        }}
      >
        {field('name', 'Name', 'What it is called, for example printer.quill')}
        {field('names', 'Names that it may write', 'Whole, with commas; empty for every name of the zone')}
        <div className="grid grid-cols-2 max-[480px]:grid-cols-1 gap-3">
          {field('types', 'Types', 'With commas; empty for all')}
          <Choice
            label="It may"
            options={[
              { value: 'true', label: 'Change records, nothing else' },
              { value: 'false', label: 'Take names away, too' },
            ]}
            value={typed.updateOnly}
            onChange={(e) => setTyped({ ...typed, updateOnly: e.target.value })}
          />
          {field('from', 'Comes from', 'Ranges, with commas; empty for anywhere')}
          {field('ends', 'Last day', '2027-03-31, for example; empty for no end')}
        </div>
        <Alert>{problem && !problem.fields.follow && problem.message}</Alert>
        {problem?.fields.follow ? (
          <AskFirst says={problem.message}>
            <SmallButton onClick={() => make.mutate(true)}>Let it follow</SmallButton>
          </AskFirst>
        ) : (
          <span className="flex justify-end gap-2 mt-1">
            <button type="button" className="btn" onClick={onClose}>
              Cancel
            </button>
            <button className="btn btn-next" disabled={make.isPending}>
              {make.isPending ? 'Making' : 'Make it'}
            </button>
          </span>
        )}
      </form>
    </Window>
  )
}
