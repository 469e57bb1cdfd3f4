import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { Choice, Field } from '../parts/Field'
import { Simulated } from './Simulated'

/** What can go wrong with a simulated device: its name in module lithos-standin, in words, and what is counted. */
const faults: [name: string, says: string, unit?: string, amount?: number][] = [
  ['slow', 'Every answer is slow', 'ms', 1500],
  ['cut', 'The next answer is cut short', 'octets', 200],
  ['reset', 'The connection breaks before the next change'],
  ['lost-answer', 'The connection breaks after the next change'],
  ['refuse', 'The next change is refused'],
  ['restart', 'It restarts at the next change', 'ms away', 3000],
  ['garbage', 'The next answer is garbage'],
  ['elsewhere', 'It comes back at another port'],
  ['lost-confirm', 'The next confirm is lost on the way'],
  ['lost-confirm-answer', 'The answer to the next confirm is lost'],
  ['full-startup', 'Its startup storage is full', 'confirms', 1],
  ['line-down', 'It is not reached', 'ms', 10000],
]

/** Has something go wrong with a simulated device; nothing is shown for a real one. */
export function Misbehave({ site, device }: { site: string; device: string }) {
  const path = { site, device }
  const simulated = useQuery({
    queryKey: ['simulated', site, device],
    queryFn: () => call(api.GET('/api/sites/{site}/devices/{device}/faults', { params: { path } })),
    retry: false,
  }).data
  const [fault, setFault] = useState('slow')
  const chosen = faults.find((f) => f[0] === fault)
  const [amount, setAmount] = useState('1500')
  const ask = useMutation({
    mutationFn: (name: string) =>
      call(
        api.POST('/api/sites/{site}/devices/{device}/faults', {
          params: { path },
          body: { fault: name, amount: name !== 'none' && chosen?.[2] ? Number(amount) : 0 },
        }),
      ),
    onSuccess: (_, name) => announce(name === 'none' ? 'Nothing more goes wrong' : `Asked: ${chosen?.[1] ?? name}`),
  })
  if (!simulated?.simulated) return null
  const words = (name: string) =>
    name === 'port-off' ? 'a port is off' : (faults.find((f) => f[0] === name)?.[1].toLowerCase() ?? name)
  const wrong = chosen?.[2] !== undefined && !/^\d{1,6}$/.test(amount)
  return (
    <details className="border-t border-seam mt-3 pt-2">
      <summary className="cursor-pointer font-[650]">A simulated device: let something go wrong</summary>
      <div className="flex flex-wrap gap-2 items-end mt-2">
        <Choice
          label="What goes wrong"
          options={faults.map(([value, label]) => ({ value, label }))}
          value={fault}
          onChange={(e) => {
            const name = e.target.value
            setFault(name)
            const usual = faults.find((f) => f[0] === name)?.[3]
            if (usual !== undefined) setAmount(String(usual))
          }}
        />
        {chosen?.[2] && (
          <div className="w-[150px]">
            <Field
              label={`How much, in ${chosen[2]}`}
              mono
              inputMode="numeric"
              value={amount}
              error={wrong ? 'Type a whole number, at most 6 digits' : undefined}
              onChange={(e) => setAmount(e.target.value)}
            />
          </div>
        )}
        <button type="button" className="btn" disabled={ask.isPending || wrong} onClick={() => ask.mutate(fault)}>
          Let it happen
        </button>
        <button type="button" className="btn" disabled={ask.isPending} onClick={() => ask.mutate('none')}>
          End all of it
        </button>
      </div>
      <p className="text-ink-2 text-[12.5px] mt-1" role="status">
        {ask.data &&
          (ask.data.armed.length > 0
            ? `Still to go wrong: ${ask.data.armed.map(words).join(', ')}.`
            : 'Nothing is left to go wrong.')}
      </p>
      <Alert>{ask.error && problemOf(ask.error).message}</Alert>
      <Simulated site={site} device={device} of={simulated} />
    </details>
  )
}
