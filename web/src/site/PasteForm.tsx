import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, type Change, type Schemas } from '../api/client'
import { Choice, Lines } from '../parts/Field'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'

type Props = {
  order: number
  network: Schemas['NetworkView']
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}

const kinds = [
  { value: 'reservation', label: 'Reservations' },
  { value: 'fixed', label: 'Fixed devices' },
]
const tones: Record<string, string> = {
  adds: 'text-malachite-ink',
  changes: 'text-ink',
  same: 'text-ink-3',
  skipped: 'text-ink-3',
  refused: 'text-cinnabar-ink bg-cinnabar-t',
}
const words: Record<string, string> = {
  adds: '+ adds',
  changes: '± changes',
  same: '= same',
  skipped: '– skipped',
  refused: '✗ refused',
}

/** Many reservations or fixed devices at once, with what becomes of every line before anything is changed. */
export function PasteForm({ order, network, save, onClose }: Props) {
  const form = useForm({ defaultValues: { kind: 'reservation', text: '' } })
  const [preview, setPreview] = useState<Schemas['PastePreview']>()
  const [problem, setProblem] = useState('')
  const [busy, setBusy] = useState(false)
  const request = (v: { kind: string; text: string }) => ({
    network: network.id,
    kind: v.kind as 'fixed',
    text: v.text,
  })
  const look = form.handleSubmit(async (v) => {
    setProblem('')
    try {
      setPreview(await call(api.POST('/api/orders/{order}/paste', { params: { path: { order } }, body: request(v) })))
    } catch (e) {
      setProblem(problemOf(e).message)
    }
  })
  const apply = form.handleSubmit(async (v) => {
    setBusy(true)
    try {
      await save({ paste: request(v) })
      onClose()
    } catch (e) {
      setProblem(problemOf(e).message)
    }
    setBusy(false)
  })
  const refused = preview?.lines.filter((l) => l.outcome === 'refused').length ?? 0
  return (
    <Window
      title={`Paste into ${network.name}`}
      says="One client a line: address, MAC and name in any order, with commas, tabs or spaces between; a first line may say which column is which. A reservation without an address takes the next free one."
      open
      onClose={onClose}
      wide
      filled={form.watch('text') !== ''}
    >
      <form aria-label="Paste" className="mt-3 grid gap-2.5" onSubmit={(e) => void look(e)}>
        <Choice label="As" options={kinds} {...form.register('kind', { onChange: () => setPreview(undefined) })} />
        <Lines
          label="Lines"
          mono
          autoFocus
          placeholder={`${network.nextFree || '10.84.18.80'}, 00:00:5e:00:53:d0, dental-pc`}
          {...form.register('text', { onChange: () => setPreview(undefined) })}
        />
        {problem && (
          <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2">
            {problem}
          </div>
        )}
        {preview && (
          <div
            className="max-h-[34vh] overflow-auto relative border border-seam"
            tabIndex={0}
            aria-label="What becomes of each line"
          >
            <table>
              <tbody>
                {preview.lines.map((l) => (
                  <tr key={l.number} className={tones[l.outcome]}>
                    <td className="list-cell mono text-ink-3 w-[40px]">{l.number}</td>
                    <td className="list-cell w-[100px]">{words[l.outcome]}</td>
                    <td className="list-cell mono max-w-[210px]" title={l.text}>
                      {l.text}
                    </td>
                    <td className="list-cell !whitespace-normal">{l.says}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
        <div className="flex gap-2 justify-end items-center">
          {preview && (
            <span className="mr-auto text-ink-2" role="status">
              {plural(preview.edits, 'line changes', 'lines change')} something
              {refused > 0 && `, ${plural(refused, 'is', 'are')} refused and left out`}
            </span>
          )}
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          {!preview && <button className="btn btn-next">Preview</button>}
          {preview && (
            <button
              type="button"
              className="btn btn-next"
              disabled={busy || preview.edits === 0}
              onClick={(e) => void apply(e)}
            >
              Apply {plural(preview.edits, 'line', 'lines')}
            </button>
          )}
        </div>
      </form>
    </Window>
  )
}
