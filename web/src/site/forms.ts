import type { Schemas, View } from '../api/client'

/** A form over one part of the site; its fields go to the server as typed. */
export type FormSpec = {
  kind: Schemas['Entry']['kind']
  id?: string
  isNew: boolean
  in?: string
  title: string
  values: Record<string, string>
}

type Option = { value: string; label: string }

export type FieldSpec = {
  name: string
  label: string
  mono?: boolean
  hint?: string
  choose?: Option[]
  /** Several of these, sent with commas between. */
  several?: Option[]
  lines?: boolean
  secret?: boolean
  /** Sent as this DHCP option of the part, not as a field of it. */
  option?: number
}

const onOff = [
  { value: 'true', label: 'On' },
  { value: 'false', label: 'Off: stored, no client is answered' },
]
const plain = (...values: string[]) => values.map((value) => ({ value, label: value }))
export const optionTypes = [
  'address',
  'addresses',
  'text',
  'number (8 bits)',
  'number (16 bits)',
  'number (32 bits)',
  'switch',
  'duration',
  'domain name',
  'octets',
]

/** The fields of each kind's form, in the order people think of them. */
export function fieldsOf(spec: FormSpec, view: View, values: Record<string, string>): FieldSpec[] {
  const within = view.network?.prefix ?? ''
  const devices = view.devices.map((d) => ({ value: d.id, label: `${d.name}, ${d.kind}` }))
  const name = { name: 'name', label: 'Name' }
  const host = { name: 'name', label: 'Host name', mono: true, hint: 'One word, without the domain' }
  const addr = { name: 'address', label: 'Address', mono: true, hint: `In ${within}; .57 or 57 is enough` }
  const mac = { name: 'mac', label: 'MAC', mono: true, hint: 'With colons, hyphens, dots or none' }
  const clientId = {
    name: 'clientId',
    label: 'Client identifier',
    mono: true,
    hint: 'In place of a MAC, for a client that sends option 61',
  }
  switch (spec.kind) {
    case 'site':
      return [
        name,
        { name: 'block', label: 'Block', mono: true, hint: 'The prefixes allotted to it, with commas' },
        { name: 'domain', label: 'Domain', mono: true, hint: 'Told to clients as option 15' },
        { name: 'timeZone', label: 'Time zone', hint: 'For example Europe/London' },
      ]
    case 'network':
      return [
        name,
        { name: 'prefix', label: 'Prefix', mono: true, hint: 'For example 10.84.20.64/26, or with a dotted mask' },
        { name: 'vlan', label: 'VLAN id', mono: true, hint: '1 to 4094; empty where untagged' },
        { name: 'gateway', label: 'Gateway', mono: true, hint: 'The address of the router on this network' },
        { name: 'purpose', label: 'Purpose' },
      ]
    case 'device':
      return [
        { ...host, hint: 'Of the device itself' },
        {
          name: 'kind',
          label: 'Kind',
          choose: plain('router', 'firewall', 'layer 3 switch', 'layer 2 switch', 'server'),
        },
      ]
    case 'interface':
      return interfaceFields(spec, view, values)
    case 'pool':
      return [
        name,
        {
          name: 'ranges',
          label: 'Ranges',
          mono: true,
          hint: '96-119, or .96 - .119, or a prefix; separate several by commas',
        },
        { name: 'enabled', label: 'Switched', choose: onOff },
        { name: 'server', label: 'Served by', choose: devices },
        { name: 'lease', label: 'Lease time', option: 51, hint: 'For example 8 hours; empty for the network’s' },
        { name: 't1', label: 'Renewal time T1', option: 58, hint: 'Empty for half the lease time' },
        { name: 't2', label: 'Rebinding time T2', option: 59, hint: 'Empty for seven eighths' },
        {
          name: 'forClass',
          label: 'Only for',
          choose: [
            { value: '', label: 'Any client' },
            ...view.classes.map((c) => ({ value: c.ref.slice(6), label: `Vendor class ${c.name}` })),
          ],
        },
        { name: 'forClient', label: 'Only for identifiers that begin', mono: true, hint: 'Empty for any client' },
        { name: 'note', label: 'Note' },
      ]
    case 'exclusion':
      return [
        { name: 'range', label: 'Range', mono: true, hint: '120-127, or a single address' },
        { name: 'reason', label: 'Reason', hint: 'Why nobody may be given these' },
        { name: 'until', label: 'Until', mono: true, hint: 'Last day, for example 2027-03-31; empty for good' },
      ]
    case 'reservation':
      return [addr, mac, host, clientId]
    case 'fixed':
      return [addr, host, { ...mac, hint: 'May be empty' }, { name: 'note', label: 'Note' }]
    case 'class':
      return [
        name,
        { name: 'match', label: 'Option 60 begins', mono: true, hint: 'What these clients say they are' },
        {
          name: 'enterprise',
          label: 'Enterprise number',
          mono: true,
          hint: 'The maker’s, to send option 125 too; may be empty',
        },
        {
          name: 'subOptions',
          label: 'Sub-options',
          mono: true,
          lines: true,
          hint: `One a line: code | name | type | value. Types: ${optionTypes.join(', ')}`,
        },
      ]
    case 'definition':
      return [
        { name: 'code', label: 'Code', mono: true, hint: '224 to 254' },
        name,
        { name: 'type', label: 'Type', choose: plain(...optionTypes) },
        { name: 'meaning', label: 'Meaning', hint: 'One line for people' },
      ]
    case 'known':
      return [
        mac,
        { ...host, hint: 'What people call it; may be empty' },
        {
          name: 'ignored',
          label: 'Ignore, because',
          hint: 'Why what is seen of it needs no attention; empty to heed it',
        },
      ]
    default:
      return []
  }
}

/** An interface has what its kind has. */
function interfaceFields(spec: FormSpec, view: View, values: Record<string, string>): FieldSpec[] {
  const kind = values.kind || 'vlan'
  const device = view.devices.find((d) => `device:${d.id}` === spec.in)
  const own = device?.interfaces ?? []
  const carriers = own
    .filter((i) => i.kind === 'port' || i.kind === 'port group')
    .map((i) => ({ value: i.name, label: i.name }))
  const others = view.devices.flatMap((d) =>
    d.interfaces
      .filter((i) => i.kind === 'port' && i.id !== spec.id && d.id !== device?.id)
      .map((i) => ({ value: i.id, label: `${i.name} of ${d.name}` })),
  )
  const switching = device?.kind === 'layer 2 switch' || device?.kind === 'layer 3 switch'
  const out: FieldSpec[] = [
    { name: 'name', label: 'Name', mono: true, hint: 'The device’s own, for example lan.52' },
    { name: 'kind', label: 'Kind', choose: plain('port', 'port group', 'vlan', 'uplink', 'loopback') },
  ]
  if (kind === 'vlan')
    out.push(
      {
        name: 'parent',
        label: 'Carried by',
        choose: [{ value: '', label: switching ? 'Every port of the VLAN' : 'Nothing yet' }, ...carriers],
      },
      { name: 'vlan', label: 'VLAN id', mono: true },
    )
  if (kind === 'port group')
    out.push({
      name: 'members',
      label: 'Ports',
      several: own.filter((i) => i.kind === 'port').map((i) => ({ value: i.name, label: i.name })),
    })
  if (kind === 'port' || kind === 'port group')
    out.push(
      { name: 'untaggedVLAN', label: 'Untagged VLAN', mono: true, hint: 'Leave empty if untagged frames have no VLAN' },
      { name: 'taggedVLANs', label: 'Tagged VLANs', mono: true, hint: 'Of a trunk, for example 11, 24, 90' },
    )
  if (kind === 'port')
    out.push({ name: 'peer', label: 'Cable to', choose: [{ value: '', label: 'Nothing recorded' }, ...others] })
  if (kind === 'uplink')
    out.push({
      name: 'method',
      label: 'Address by',
      choose: [
        { value: 'dhcp', label: 'DHCP' },
        { value: 'fixed', label: 'Fixed' },
        { value: 'pppoe', label: 'PPPoE' },
      ],
    })
  if (kind !== 'uplink' || values.method === 'fixed')
    out.push({ name: 'addresses', label: 'Addresses', mono: true, hint: 'With prefix lengths, separated by commas' })
  if (kind !== 'uplink') {
    out.push({
      name: 'permits',
      label: 'Permits from its network',
      several: plain('dhcp', 'dns', 'ntp', 'ping', 'administration'),
      hint: 'Tick none to allow everything',
    })
    out.push({
      name: 'relayTo',
      label: 'Relays DHCP to',
      mono: true,
      hint: 'Addresses of the servers; empty where it does not relay',
    })
    return out
  }
  if (values.method === 'fixed') out.push({ name: 'uplinkGateway', label: 'Provider’s router', mono: true })
  if (values.method === 'pppoe')
    out.push(
      { name: 'account', label: 'Account', mono: true },
      {
        name: 'secret',
        label: 'Password',
        secret: true,
        hint: 'Kept encrypted and never shown; empty keeps the one there is',
      },
    )
  out.push(
    { name: 'mtu', label: 'MTU', mono: true, hint: 'Empty for 1500, or 1492 with PPPoE' },
    {
      name: 'translates',
      label: 'Translates',
      several: view.networks.map((n) => ({ value: n.id, label: n.name })),
      hint: 'Networks that reach the internet through it',
    },
  )
  return out
}

export const titles: Record<string, string> = {
  site: 'site',
  network: 'network',
  device: 'device',
  interface: 'interface',
  pool: 'pool',
  exclusion: 'exclusion',
  reservation: 'reservation',
  fixed: 'fixed device',
  class: 'vendor class',
  definition: 'own option',
  known: 'client',
}
