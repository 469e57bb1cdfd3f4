import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, type Change, type Schemas } from '../api/client'
import { Choice, Lines } from '../parts/Field'
import { FromFile } from '../parts/FromFile'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'

type Props = {
  order: number
  /** What it is pasted into: a network, or a zone. */
  into: { network: Schemas['NetworkView'] } | { zone: string; name: string; text?: string }
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}

const ofClients =
  'One client a line: address, MAC and name in any order, with commas, tabs or spaces between; a first line ' +
  'may say which column is which. A reservation without an address takes the next free one.'
const ofNames =
  'One a line, of a hosts file, of CSV (name, type, value, TTL) or of a zone file, in any mixture. A line ' +
  'that cannot be taken is shown with the reason.'
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
export function PasteForm({ order, into, save, onClose }: Props) {
  const network = 'network' in into ? into.network : undefined
  const form = useForm({
    defaultValues: { kind: network ? 'reservation' : 'record', text: ('text' in into && into.text) || '' },
  })
  const [preview, setPreview] = useState<Schemas['PastePreview']>()
  const [problem, setProblem] = useState('')
  const request = (v: { kind: string; text: string }) => ({
    ...('zone' in into ? { zone: into.zone } : { network: into.network.id }),
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
    try {
      await save({ paste: request(v) })
      onClose()
    } catch (e) {
      setProblem(problemOf(e).message)
    }
  })
  const refused = preview?.lines.filter((l) => l.outcome === 'refused').length ?? 0
  return (
    <Window
      title={`Paste into ${'zone' in into ? into.name : into.network.name}`}
      says={network ? ofClients : ofNames}
      open
      onClose={onClose}
      wide
      filled={form.watch('text') !== ''}
    >
      <form aria-label="Paste" className="mt-3 grid gap-2.5" onSubmit={(e) => void look(e)}>
        {network && (
          <Choice label="As" options={kinds} {...form.register('kind', { onChange: () => setPreview(undefined) })} />
        )}
        <Lines
          label="Lines"
          mono
          autoFocus
          placeholder={
            network ? `${network.nextFree || '10.84.18.80'}, 00:00:5e:00:53:d0, dental-pc` : '10.84.20.40 pacs pacs-1'
          }
          {...form.register('text', { onChange: () => setPreview(undefined) })}
        />
        {!network && (
          <FromFile
            what="Lines"
            onText={(text) => {
              setPreview(undefined)
              form.setValue('text', text)
            }}
          />
        )}
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
              disabled={form.formState.isSubmitting || preview.edits === 0}
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
