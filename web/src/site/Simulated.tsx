import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { Choice, Field } from '../parts/Field'

type Fault = { fault: string; at: string; value?: string }

/** Ports, machines and lines of a simulated device: plugged elsewhere, off and on, given another address. */
export function Simulated({ site, device, of }: { site: string; device: string; of: Schemas['Faults'] }) {
  const client = useQueryClient()
  const ask = useMutation({
    mutationFn: (body: Fault & { says: string }) =>
      call(
        api.POST('/api/sites/{site}/devices/{device}/faults', {
          params: { path: { site, device } },
          body: { fault: body.fault, at: body.at, value: body.value },
        }),
      ),
    onSuccess: (now, { says }) => {
      announce(says)
      client.setQueryData(['simulated', site, device], now)
    },
  })
  return (
    <>
      {of.ports.length > 0 && <Port of={of} busy={ask.isPending} onAsk={ask.mutate} />}
      {of.lines.map((line) => (
        <Line key={line} line={line} busy={ask.isPending} onAsk={ask.mutate} />
      ))}
      <Alert>{ask.error && problemOf(ask.error).message}</Alert>
    </>
  )
}

type Ask = (f: Fault & { says: string }) => void

function Port({ of, busy, onAsk }: { of: Schemas['Faults']; busy: boolean; onAsk: Ask }) {
  const [port, setPort] = useState(of.ports[0]?.name ?? '')
  const [mac, setMac] = useState(of.machines[0]?.mac ?? '')
  const machines = of.machines.filter((m, i, all) => all.findIndex((o) => o.mac === m.mac) === i)
  const up = of.ports.find((p) => p.name === port)?.up ?? true
  const machine = of.machines.find((m) => m.mac === mac)
  return (
    <fieldset className="mt-3">
      <legend className="font-[650]">Its ports, and the simulated machines of the site</legend>
      <div className="flex flex-wrap gap-2 items-end mt-1">
        <Choice
          label="Port"
          options={of.ports.map((p) => ({ value: p.name, label: p.up ? p.name : `${p.name}, off` }))}
          value={port}
          onChange={(e) => setPort(e.target.value)}
        />
        <button
          type="button"
          className="btn"
          disabled={busy}
          onClick={() => {
            onAsk({ fault: up ? 'port-off' : 'port-on', at: port, says: up ? `${port} is off` : `${port} is on` })
          }}
        >
          {up ? 'Pull its plug' : 'Plug it in again'}
        </button>
        {of.machines.length > 0 && (
          <>
            <Choice
              label="Machine"
              options={machines.map((m) => ({ value: m.mac, label: m.at ? `${m.name}, at ${m.at}` : m.name }))}
              value={mac}
              onChange={(e) => setMac(e.target.value)}
            />
            <button
              type="button"
              className="btn"
              disabled={busy}
              onClick={() => {
                onAsk({ fault: 'plug', at: port, value: mac, says: `${machine?.name ?? mac} is at ${port}` })
              }}
            >
              Plug it in at {port}
            </button>
          </>
        )}
      </div>
    </fieldset>
  )
}

const address = /^(\d{1,3}\.){3}\d{1,3}$/

function Line({ line, busy, onAsk }: { line: string; busy: boolean; onAsk: Ask }) {
  const [to, setTo] = useState('203.0.113.91')
  const wrong = !address.test(to.trim())
  return (
    <fieldset className="mt-3">
      <legend className="font-[650]">Its line on {line}</legend>
      <div className="flex flex-wrap gap-2 items-end mt-1">
        <div className="w-[170px]">
          <Field
            label="Address"
            mono
            value={to}
            error={wrong ? 'Type an IPv4 address, for example 203.0.113.91' : undefined}
            onChange={(e) => setTo(e.target.value)}
          />
        </div>
        <button
          type="button"
          className="btn"
          disabled={busy || wrong}
          onClick={() => onAsk({ fault: 'line', at: line, value: to.trim(), says: `The line has ${to.trim()}` })}
        >
          Give it this address
        </button>
        <button
          type="button"
          className="btn"
          disabled={busy}
          onClick={() => onAsk({ fault: 'line', at: line, value: '100.72.9.9', says: 'The line has a shared address' })}
        >
          Give it a shared one
        </button>
        <button
          type="button"
          className="btn"
          disabled={busy}
          onClick={() => onAsk({ fault: 'line', at: line, says: 'The line is dropped' })}
        >
          Drop
        </button>
      </div>
    </fieldset>
  )
}
