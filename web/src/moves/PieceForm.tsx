import { Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import type { AskedPiece, Movable } from './useMove'

/** A network that a part of another becomes. */
export function PieceForm({
  piece,
  of,
  ports,
  error,
  onChange,
  onRemove,
}: {
  piece: AskedPiece
  of: Movable['networks'][number]
  ports: Movable['ports']
  error: (field: string) => string | undefined
  onChange: (change: Partial<AskedPiece>) => void
  onRemove: () => void
}) {
  const words = (name: 'name' | 'takes' | 'prefix' | 'vlan' | 'gateway', label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      mono={name !== 'name'}
      error={error(name)}
      value={piece[name] ?? ''}
      onChange={(e) => {
        onChange({ [name]: e.target.value })
      }}
    />
  )
  const chosen = piece.ports ?? []
  return (
    <section aria-label={`Part of ${of.name}: ${piece.name}`} className="mt-2 border-t border-seam-2 pt-2">
      <div className="grid grid-cols-[repeat(auto-fill,minmax(150px,1fr))] gap-3">
        {words('name', 'The new network is called', '')}
        {words('takes', 'Takes the addresses', `For example ${example(of.prefix)}`)}
        {words('prefix', 'Its subnet', 'For example 10.84.22.0/26')}
        {words('vlan', 'Its VLAN id', '1 to 4094; empty for none')}
        {words('gateway', 'Its gateway', 'Empty for the first free one')}
      </div>
      {ports.length > 0 && (
        <fieldset className="mt-2">
          <legend className="text-[12.5px] text-ink-2">Ports of {of.name} that are in it from then on</legend>
          <div className="flex flex-wrap gap-x-4 gap-y-1 mt-1">
            {ports.map((p) => (
              <label key={p.id} className="flex gap-1.5 items-center">
                <input
                  type="checkbox"
                  checked={chosen.includes(p.id)}
                  onChange={(e) => {
                    onChange({ ports: e.target.checked ? [...chosen, p.id] : chosen.filter((id) => id !== p.id) })
                  }}
                />
                {p.name}
              </label>
            ))}
          </div>
          {error('ports') && (
            <p role="alert" className="text-[12.5px] text-cinnabar-ink">
              {error('ports')}
            </p>
          )}
        </fieldset>
      )}
      <SmallButton className="mt-2" onClick={onRemove}>
        Do not split
      </SmallButton>
    </section>
  )
}

/** A range as it may be typed, in a subnet. */
const example = (prefix: string) => `${prefix.replace(/\.\d+\/\d+$/, '')}.60-80`
