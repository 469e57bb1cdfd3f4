import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemIn, unplaced, type Schemas, type View } from '../api/client'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { plural } from '../parts/plural'
import { Window } from '../parts/Window'
import { Misbehave } from './Misbehave'

type Device = View['devices'][number]

/** How Lithos reaches a device: its address, its certificate as somebody compares it, and who signs in there. */
export function ReachDevice({
  view,
  site,
  device,
  onClose,
}: {
  view: View
  site: string
  device: Device
  onClose: () => void
}) {
  const { others, sharing } = useAccounts(site, `${device.id} at ${view.site.name}`)
  const [all, setAll] = useState(true)
  const [typed, setTyped] = useState({ url: device.url ?? '', account: '', password: '', like: '' })
  const [fingerprint, setFingerprint] = useState('')
  const [compared, setCompared] = useState(false)
  const onGreeted = (g: { url: string; fingerprint: string }) => {
    setFingerprint(g.fingerprint)
    setTyped((was) => ({ ...was, url: g.url }))
    setCompared(false)
    announce('The certificate was fetched')
  }
  const changes = sharing !== undefined && typed.password !== '' && !typed.like
  const body = {
    ...typed,
    fingerprint,
    order: view.order?.id,
    all: changes && all,
  }
  const { greet, introduce, keep, forget } = useReaching({ site, device, body, onClose, onGreeted })
  const problem = problemIn([greet, introduce, keep, forget])
  const set = (name: keyof typeof typed, value: string) => {
    introduce.reset()
    keep.reset()
    greet.reset()
    if (name === 'url') setFingerprint('')
    setTyped({ ...typed, [name]: value })
  }
  const said = introduce.data
  return (
    <Window
      title={`How ${device.name} is reached`}
      says="Nothing is kept before the device has let Lithos in. The password is encrypted and never shown again."
      open
      onClose={onClose}
      filled={typed.password !== '' || fingerprint !== ''}
    >
      <form
        className="grid gap-3 mt-3"
        onSubmit={(e) => {
          e.preventDefault()
          if (!fingerprint) greet.mutate()
          else if (!said) introduce.mutate()
          else keep.mutate()
        }}
      >
        <Field
          label="Address"
          hint="Where it listens, for example 10.84.16.1 or https://10.84.16.1:8443"
          error={problem?.fields.url}
          mono
          autoFocus
          value={typed.url}
          onChange={(e) => set('url', e.target.value)}
        />
        {fingerprint && (
          <>
            <div className="border border-seam p-2.5">
              <p className="text-[12.5px] text-ink-2">Its certificate, SHA-256</p>
              <p className="mono text-[12.5px] [overflow-wrap:anywhere]">{fingerprint}</p>
              <label className="flex gap-2 items-center mt-2 text-[13px]">
                <input type="checkbox" checked={compared} onChange={(e) => setCompared(e.target.checked)} />
                It is the one that the device itself shows
              </label>
            </div>
            <SignsIn
              device={device}
              typed={typed}
              others={others}
              own={sharing ? `As ${sharing.account}, like others` : 'With an account of its own'}
              fault={problem?.fields ?? {}}
              set={set}
            />
          </>
        )}
        {fingerprint && <ForAll at={changes ? sharing.at : []} all={all} onChange={setAll} />}
        {said && <Said of={said} />}
        <Alert>{unplaced(problem)}</Alert>
        <span className="flex flex-wrap justify-end gap-2 mt-1">
          {device.reached && (
            <SmallButton className="mr-auto" disabled={forget.isPending} onClick={() => forget.mutate()}>
              Reach it no more
            </SmallButton>
          )}
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <Next
            fetched={fingerprint !== ''}
            compared={compared}
            said={said !== undefined}
            busy={greet.isPending || introduce.isPending || keep.isPending}
          />
        </span>
      </form>
      {device.reached && <Misbehave site={site} device={device.id} />}
    </Window>
  )
}

/** The accounts that Lithos signs in with elsewhere, and the one of this device where others share it. */
function useAccounts(site: string, here: string) {
  const accounts = useQuery({
    queryKey: ['accounts', site],
    queryFn: () => call(api.GET('/api/sites/{site}/accounts', { params: { path: { site } } })),
  }).data
  return {
    others: accounts?.filter((k) => !k.at.includes(here)) ?? [],
    sharing: accounts?.find((k) => k.at.includes(here) && k.at.length > 1),
  }
}

/** Whether a new password is for every device that shares the account. */
function ForAll({ at, all, onChange }: { at: string[]; all: boolean; onChange: (all: boolean) => void }) {
  if (at.length === 0) return null
  return (
    <label className="flex gap-2 items-baseline text-[13px]">
      <input type="checkbox" checked={all} onChange={(e) => onChange(e.target.checked)} />
      For each device that signs in with it: {at.join(', ')}. It is kept once every one lets it in.
    </label>
  )
}

type Typed = { url: string; account: string; password: string; like: string }

/** Who Lithos is for a device: an account of its own, or one that is used elsewhere. */
function SignsIn(props: {
  device: Device
  typed: Typed
  others: { account: string; like: string; at: string[] }[]
  own: string
  fault: Record<string, string>
  set: (name: keyof Typed, value: string) => void
}) {
  const { device, typed, others, own, fault, set } = props
  return (
    <>
      {others.length > 0 && (
        <Choice
          label="Signs in"
          options={[
            { value: '', label: own },
            ...others.map((k) => ({ value: k.like, label: `As ${k.account}, like ${k.at.join(', ')}` })),
          ]}
          value={typed.like}
          onChange={(e) => set('like', e.target.value)}
        />
      )}
      <div className="grid grid-cols-2 max-[480px]:grid-cols-1 gap-3">
        {!typed.like && (
          <Field
            label="Account"
            hint={device.reached ? 'Empty for the one there is' : undefined}
            error={fault.account}
            value={typed.account}
            onChange={(e) => set('account', e.target.value)}
          />
        )}
        <Field
          label="Password"
          type="password"
          hint={passwordHint(typed, device)}
          error={fault.password}
          value={typed.password}
          onChange={(e) => set('password', e.target.value)}
        />
      </div>
    </>
  )
}

/** What is asked of a device, in this order: its certificate, to let Lithos in, and to be kept. */
function useReaching(of: {
  site: string
  device: Device
  body: Typed & { fingerprint: string; order?: number; all: boolean }
  onClose: () => void
  onGreeted: (g: { url: string; fingerprint: string }) => void
}) {
  const { site, device, body, onClose, onGreeted } = of
  const client = useQueryClient()
  const path = { site, device: device.id }
  const greet = useMutation({
    mutationFn: () => call(api.POST('/api/greet', { body: { url: body.url } })),
    onSuccess: onGreeted,
  })
  const introduce = useMutation({
    mutationFn: () => call(api.POST('/api/sites/{site}/devices/{device}/introduction', { params: { path }, body })),
  })
  const keep = useMutation({
    mutationFn: () => call(api.PUT('/api/sites/{site}/devices/{device}/access', { params: { path }, body })),
    onSuccess: async () => {
      await Promise.all(['view', 'accounts'].map((k) => client.invalidateQueries({ queryKey: [k] })))
      announce(`Lithos reaches ${device.name}`)
      onClose()
    },
  })
  const forget = useMutation({
    mutationFn: () => call(api.DELETE('/api/sites/{site}/devices/{device}/access', { params: { path } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['view'] })
      onClose()
    },
  })
  return { greet, introduce, keep, forget }
}

/** When a password has to be typed: a kept one goes only to the address and certificate that it was kept with. */
function passwordHint(typed: { url: string; like: string }, device: Device) {
  if (typed.like) return 'Of that account; empty where it is used at this address already'
  if (!device.reached) return undefined
  return typed.url === device.url ? 'Empty for the one there is' : 'Again, for another address'
}

/** The step that comes next. */
function Next(props: { fetched: boolean; compared: boolean; said: boolean; busy: boolean }) {
  const { fetched, compared, said, busy } = props
  const word = !fetched ? 'Fetch its certificate' : !said ? 'Sign in and look' : 'Keep it'
  return (
    <button className="btn btn-next" disabled={busy || (fetched && !compared)}>
      {busy ? 'Asking the device' : word}
    </button>
  )
}

/** What the device says of itself. */
function Said({ of }: { of: Schemas['Introduced'] }) {
  return (
    <div className="border border-seam p-2.5 text-[13px]" role="status">
      {of.misfit && <p className="text-sand-ink mb-1.5">{of.misfit}</p>}
      {of.elsewhere.length > 0 && (
        <p className="text-sand-ink mb-1.5">
          It is recorded already, as {of.elsewhere.join(' and ')}. What is pushed at one site changes it for both.
        </p>
      )}
      {(of.ownName || of.ownKind) && (
        <p className="text-sand-ink mb-1.5">
          It says of itself{of.ownName && ` that its host name is ${of.ownName}`}
          {of.ownName && of.ownKind && ' and'}
          {of.ownKind && ` that it is a ${of.ownKind}`}. It is recorded otherwise here; reading the devices into the
          site offers to change that.
        </p>
      )}
      <p>
        It can:{' '}
        {of.can
          .filter((c) => c.has)
          .map((c) => c.what)
          .join(', ') || 'nothing that Lithos asks of it'}
        .
        {of.can.some((c) => !c.has) &&
          ` It cannot: ${of.can
            .filter((c) => !c.has)
            .map((c) => c.what)
            .join(', ')}.`}
      </p>
      <p className="mt-1 text-ink-2">
        It holds {plural(of.pools, 'pool')} and {plural(of.names, 'reservation')}, and these interfaces:{' '}
        <span className="mono text-[12.5px]">{of.interfaces.join(' · ') || 'none'}</span>
      </p>
    </div>
  )
}
