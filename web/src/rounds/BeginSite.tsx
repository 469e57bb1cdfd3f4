import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, call, problemOf, unplaced, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { Choice, Field } from '../parts/Field'
import { Window } from '../parts/Window'

type Beginning = Schemas['Beginning']

/** Adds a site: whose it is, what it is called, and the addresses its networks are given. */
export function BeginSite({ onClose }: { onClose: () => void }) {
  const known = useQuery({ queryKey: ['beginning'], queryFn: () => call(api.GET('/api/beginning')), gcTime: 0 })
  return (
    <Window
      title="Add a site"
      says="It begins without networks and devices; its page says what comes next."
      open
      onClose={onClose}
    >
      <Alert className="mt-3">{known.error && problemOf(known.error).message}</Alert>
      {known.data && <Form known={known.data} onClose={onClose} />}
    </Window>
  )
}

const other = 'another'

function sitesOf(customer: Beginning['customers'][number]): string {
  const { sites } = customer
  return `Has ${sites.slice(0, 3).join(', ')}${sites.length > 3 ? ' and others' : ''}`
}

function Form({ known, onClose }: { known: Beginning; onClose: () => void }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const first = known.customers[0]
  const [customer, setCustomer] = useState(first?.id ?? other)
  const [typed, setTyped] = useState({
    newCustomer: '',
    name: '',
    code: '',
    block: first?.block ?? known.block,
    domain: '',
    timeZone: known.timeZone || Intl.DateTimeFormat().resolvedOptions().timeZone,
    standard: first?.standard ?? '',
  })
  const add = useMutation({
    mutationFn: () => {
      const { newCustomer, ...site } = typed
      return call(api.POST('/api/sites', { body: { ...site, customer: customer === other ? newCustomer : customer } }))
    },
    onSuccess: async (at) => {
      await client.invalidateQueries({ queryKey: ['sites'] })
      onClose()
      void navigate(`/sites/${at.code}`)
    },
  })
  const problem = add.error ? problemOf(add.error) : undefined
  const choose = (id: string) => {
    const chosen = known.customers.find((c) => c.id === id)
    setCustomer(id)
    // What was proposed for one customer is proposed anew for another; what was typed stays.
    const proposed = known.customers.map((c) => c.block).concat(known.block)
    setTyped({
      ...typed,
      block: proposed.includes(typed.block) ? (chosen?.block ?? known.block) : typed.block,
      standard: chosen?.standard ?? typed.standard,
    })
  }
  const field = (name: keyof typeof typed, label: string, hint: string, error = problem?.fields[name]) => (
    <Field
      label={label}
      hint={hint}
      error={error}
      instead={problem?.instead[name]}
      mono={name === 'block' || name === 'code' || name === 'domain'}
      value={typed[name]}
      autoFocus={name === (first ? 'name' : 'newCustomer')}
      onChange={(e) => setTyped({ ...typed, [name]: e.target.value })}
    />
  )
  const of = known.customers.find((c) => c.id === customer)
  const pattern = known.standards.find((s) => s.id === typed.standard)?.domain
  return (
    <form
      className="grid gap-3 mt-3"
      onSubmit={(e) => {
        e.preventDefault()
        add.mutate()
      }}
    >
      {known.customers.length > 0 && (
        <Choice
          label="Customer"
          options={[
            ...known.customers.map((c) => ({ value: c.id, label: c.name })),
            { value: other, label: 'A new customer' },
          ]}
          value={customer}
          hint={of && sitesOf(of)}
          onChange={(e) => choose(e.target.value)}
        />
      )}
      {customer === other && field('newCustomer', 'Name of the customer', 'Whose site it is', problem?.fields.customer)}
      {field('name', 'Name of the site', 'As people say it: Kelder Bridge surgery')}
      <div className="grid grid-cols-2 max-[480px]:grid-cols-1 gap-3">
        {field('block', 'Block', 'Proposed beside the other sites; prefixes with commas')}
        {field(
          'domain',
          'Domain',
          pattern ? `Empty: ${pattern}, as the standard has it` : 'Told to clients; may be empty',
        )}
        {field('timeZone', 'Time zone', 'For example Europe/London')}
        {field('code', 'Code', 'In the addresses of its pages; empty for one made of the name')}
      </div>
      {known.standards.length > 0 && (
        <Choice
          label="Standard"
          error={problem?.fields.standard}
          options={[{ value: '', label: 'None' }, ...known.standards.map((s) => ({ value: s.id, label: s.name }))]}
          value={typed.standard}
          onChange={(e) => setTyped({ ...typed, standard: e.target.value })}
        />
      )}
      <Alert>{unplaced(problem)}</Alert>
      <span className="flex justify-end gap-2 mt-1">
        <button type="button" className="btn" onClick={onClose}>
          Cancel
        </button>
        <button className="btn btn-next" disabled={add.isPending}>
          {add.isPending ? 'Adding' : 'Add the site'}
        </button>
      </span>
    </form>
  )
}
