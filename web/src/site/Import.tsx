import { Fragment, useRef, useState, type RefObject } from 'react'
import { api, call, problemOf, type Schemas } from '../api/client'
import { useDraftStep } from '../api/queries'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'

type Preview = Schemas['TakeInView']
type Outcome = Schemas['Outcome']
type File64 = Schemas['TakenFile']

const mostOctets = 8 << 20
const shownAtFirst = 200

const tones: Record<Outcome['state'], string> = {
  added: 'text-malachite-ink',
  changed: 'text-ink',
  same: 'text-ink-3',
  conflict: 'text-sand-ink bg-sand-t',
  wrong: 'text-cinnabar-ink',
  skipped: 'text-ink-3',
}
const words: Record<Outcome['state'], string> = {
  added: '+ added',
  changed: '± changed',
  same: '= same',
  conflict: '▲ in conflict',
  wrong: '✗ not read',
  skipped: '– nothing',
}
const holds = [
  ['', 'not read'],
  ['kind', 'what it is'],
  ['network', 'network'],
  ['vlan', 'VLAN id'],
  ['prefix', 'prefix'],
  ['mask', 'mask'],
  ['gateway', 'gateway'],
  ['address', 'address or range'],
  ['last', 'last address'],
  ['mac', 'MAC'],
  ['name', 'name'],
  ['note', 'note'],
] as const

/** Takes tables and site files into a draft: the columns as they were recognised, and what becomes of each line. */
export function Import({ order, onClose }: { order: Schemas['Head']; onClose: () => void }) {
  const [files, setFiles] = useState<File64[]>([])
  const [columns, setColumns] = useState<Schemas['TableHolds'][]>([])
  const [preview, setPreview] = useState<Preview>()
  const [picked, setPicked] = useState<Record<string, boolean>>({})
  const [cells, setCells] = useState<Schemas['CellSays'][]>([])
  const [correcting, setCorrecting] = useState('')
  const [busy, setBusy] = useState('')
  const [problem, setProblem] = useState('')
  const leaving = useRef<AbortController>(undefined)
  const region = useRef<HTMLDivElement>(null)

  const takes = (l: Outcome) => picked[l.id] ?? l.taken
  const body = (version: number, of: File64[], said: Schemas['TableHolds'][], typed: Schemas['CellSays'][]) => ({
    version,
    files: of,
    columns: said,
    cells: typed,
    take: Object.keys(picked).filter((id) => picked[id]),
    leave: Object.keys(picked).filter((id) => !picked[id]),
  })
  /** Asks what becomes of each line. What somebody said of lines stays, unless others are looked at. */
  const look = async (of: File64[], said: Schemas['TableHolds'][], typed: Schemas['CellSays'][], others = false) => {
    setProblem('')
    setBusy('Comparing each line with the site')
    leaving.current = new AbortController()
    try {
      const v = await call(
        api.POST('/api/orders/{order}/take-in/preview', {
          params: { path: { order: order.id } },
          body: { ...body(order.version, of, said, typed), take: [], leave: [] },
          signal: leaving.current.signal,
        }),
      )
      setPreview(v)
      if (others) setPicked({})
      setBusy('')
      announce(`${plural(v.lines.length, 'line', 'lines')} compared`)
      return v
    } catch (e) {
      if (!leaving.current.signal.aborted) setProblem(problemOf(e).message)
    }
    setBusy('')
    return undefined
  }
  const read = async (list: FileList | null) => {
    const all = [...(list ?? [])]
    if (all.length === 0) return
    const octets = all.reduce((n, f) => n + f.size, 0)
    if (octets > mostOctets) {
      setProblem('The files are larger than 8 MB together; take them in one after the other, or in parts.')
      return
    }
    const out: File64[] = []
    for (const [n, f] of all.entries()) {
      setBusy(`Reading ${f.name}, ${n + 1} of ${all.length}`)
      out.push({ name: f.name, data: await base64(f) })
    }
    setFiles(out)
    setColumns([])
    setCells([])
    setCorrecting('')
    await look(out, [], [], true)
  }
  const correct = (table: Schemas['TableView'], at: number, to: string) => {
    const now = table.columns.map((c, n) => (n === at ? to : c.holds === to && to !== '' ? '' : c.holds))
    const said = [...columns.filter((c) => c.table !== table.name), { table: table.name, columns: now }]
    setColumns(said)
    void look(files, said, cells, true)
  }
  const retype = async (l: Outcome, to: string[]) => {
    const said = [
      ...cells.filter((c) => c.line !== l.id || to[c.column] === undefined),
      ...to.flatMap((text, column) => {
        const was = l.cells?.[column] ?? ''
        const before = cells.find((c) => c.line === l.id && c.column === column)
        return text === was && !before ? [] : [{ line: l.id, column, text }]
      }),
    ]
    const v = await look(files, columns, said)
    if (!v) return
    setCells(said)
    setCorrecting('')
    const now = v.lines.find((o) => o.id === l.id)
    if (now) announce(`Line ${now.number}: ${words[now.state].slice(2)}. ${now.says}`)
    // Another state may be filtered out, and its button with it.
    const again = document.getElementById(`correct-${l.id}`)
    ;(again ?? region.current)?.focus()
  }
  const takeIn = useDraftStep(
    order,
    (version) =>
      call(
        api.POST('/api/orders/{order}/take-in', {
          params: { path: { order: order.id } },
          body: body(version, files, columns, cells),
        }),
      ),
    (v) => announce(`${plural(v.edits, 'edit', 'edits')} in the draft, as one step`),
  )
  const apply = async () => {
    setProblem('')
    setBusy('Taking in')
    try {
      await takeIn.mutateAsync()
      onClose()
    } catch (e) {
      setProblem(problemOf(e).message)
    }
    setBusy('')
  }
  const taken = preview?.lines.filter((l) => l.can && takes(l)).length ?? 0
  return (
    <Window
      title="Import a list or a site file"
      open
      onClose={() => {
        leaving.current?.abort()
        onClose()
      }}
      wide={preview ? 'full' : true}
      filled={preview !== undefined}
      says={
        'Tables from a spreadsheet (CSV or XLSX), or site files (JSON or YAML), several at once. Each line is ' +
        'compared with this draft first; nothing is removed, and nothing is changed before you take it in.'
      }
    >
      <label className="block text-[12.5px] text-ink-2 mt-3">
        Files{' '}
        <input
          type="file"
          multiple
          accept=".csv,.txt,.tsv,.xlsx,.json,.yaml,.yml"
          aria-label="Files"
          className="text-[13px] max-w-full"
          disabled={busy !== ''}
          onChange={(e) => void read(e.target.files)}
        />
      </label>
      <Alert className="mt-2">{problem}</Alert>
      {busy && (
        <p role="status" className="mt-2 text-ink-2">
          {busy}…
        </p>
      )}
      {preview?.tables.map((t) => (
        <Columns key={t.name} of={t} busy={busy !== ''} onSay={(n, to) => correct(t, n, to)} />
      ))}
      {preview && (
        <Lines
          preview={preview}
          cells={cells}
          busy={busy !== ''}
          takes={takes}
          region={region}
          correcting={correcting}
          onTake={(id, on) => setPicked((was) => ({ ...was, [id]: on }))}
          onCorrect={setCorrecting}
          onType={(l, to) => void retype(l, to)}
        />
      )}
      <span className="flex flex-wrap justify-end gap-2 mt-4">
        {busy && (
          <button className="btn mr-auto" onClick={() => leaving.current?.abort()}>
            Stop
          </button>
        )}
        <button className="btn" onClick={onClose}>
          Cancel
        </button>
        {preview && (
          <button className="btn btn-next" disabled={taken === 0 || busy !== ''} onClick={() => void apply()}>
            Import {plural(taken, 'line', 'lines')}
          </button>
        )}
      </span>
    </Window>
  )
}

/** The columns of a table, with what each is taken for. */
function Columns({
  of: t,
  busy,
  onSay,
}: {
  of: Schemas['TableView']
  busy: boolean
  onSay: (column: number, holds: string) => void
}) {
  return (
    <details className="mt-3" open={t.columns.every((c) => c.holds === '') || undefined}>
      <summary className="cursor-pointer">
        <b>{t.name}</b>{' '}
        <span className="text-ink-2">
          {plural(t.lines, 'line', 'lines')}, {t.heading > 0 ? `heading on line ${t.heading}` : 'no heading'}
          {t.remembered && ', columns as somebody said before'}
        </span>
      </summary>
      <div className="flex flex-wrap gap-2 mt-2">
        {t.columns.map((c, n) => (
          <label key={n} className="text-[12.5px] text-ink-2 w-[150px]">
            <span className="block truncate" title={c.title || c.sample}>
              {c.title || `Column ${n + 1}`}
              {c.sample && <span className="text-ink-3"> ({c.sample})</span>}
            </span>
            <select
              className="field !h-[28px]"
              value={c.holds}
              disabled={busy}
              onChange={(e) => onSay(n, e.target.value)}
            >
              {holds.map(([id, label]) => (
                <option key={id} value={id}>
                  {label}
                </option>
              ))}
            </select>
          </label>
        ))}
      </div>
    </details>
  )
}

/** What becomes of each line, with what may be taken and what may be typed anew. */
function Lines({
  preview,
  cells,
  busy,
  takes,
  region,
  correcting,
  onTake,
  onCorrect,
  onType,
}: {
  preview: Preview
  cells: Schemas['CellSays'][]
  busy: boolean
  takes: (l: Outcome) => boolean
  region: RefObject<HTMLDivElement | null>
  correcting: string
  onTake: (id: string, on: boolean) => void
  onCorrect: (id: string) => void
  onType: (l: Outcome, to: string[]) => void
}) {
  const [filter, setFilter] = useState('')
  const [most, setMost] = useState(shownAtFirst)
  const lines = preview.lines.filter((l) => !filter || l.state === filter)
  return (
    <>
      <div role="group" aria-label="Which lines" className="flex flex-wrap gap-1.5 mt-3">
        <Which
          label={`All ${preview.lines.length}`}
          on={filter === ''}
          onChoose={() => {
            setFilter('')
          }}
        />
        {preview.counts
          .filter((c) => c.lines > 0)
          .map((c) => (
            <Which
              key={c.state}
              label={`${words[c.state as Outcome['state']]} ${c.lines}`}
              on={filter === c.state}
              onChoose={() => {
                setFilter(c.state)
                setMost(shownAtFirst)
              }}
            />
          ))}
      </div>
      <div
        ref={region}
        className="max-h-[38vh] overflow-auto relative border border-seam mt-2"
        tabIndex={0}
        role="region"
        aria-label="What becomes of each line"
      >
        <table>
          <tbody>
            {lines.slice(0, most).map((l) => (
              <Fragment key={l.id}>
                <tr className={tones[l.state]}>
                  <td className="list-cell w-[34px]">
                    {l.can && (
                      <input
                        type="checkbox"
                        aria-label={`Take line ${l.number || ''} ${l.text}`.replace('  ', ' ')}
                        checked={takes(l)}
                        onChange={(e) => {
                          onTake(l.id, e.target.checked)
                        }}
                      />
                    )}
                  </td>
                  <td className="list-cell mono text-ink-3 w-[44px]">{l.number || ''}</td>
                  <td className="list-cell w-[108px]">{words[l.state]}</td>
                  <td className="list-cell mono max-w-[260px]" title={`${l.source}: ${l.text}`}>
                    {l.text}
                  </td>
                  <td className="list-cell !whitespace-normal">
                    {l.says}
                    {cells.some((c) => c.line === l.id) && <span className="text-ink-2"> (corrected here)</span>}
                  </td>
                  <td className="list-cell w-[84px]">
                    {l.cells && l.state !== 'skipped' && (
                      <SmallButton
                        id={`correct-${l.id}`}
                        aria-label={`Correct line ${l.number}`}
                        aria-expanded={correcting === l.id}
                        disabled={busy}
                        onClick={() => {
                          onCorrect(correcting === l.id ? '' : l.id)
                        }}
                      >
                        Correct
                      </SmallButton>
                    )}
                  </td>
                </tr>
                {correcting === l.id && (
                  <tr>
                    <td />
                    <td colSpan={5} className="list-cell !whitespace-normal">
                      <Cells
                        of={l}
                        columns={columnsOf(preview, l)}
                        busy={busy}
                        onType={(to) => onType(l, to)}
                        onClose={() => {
                          onCorrect('')
                          document.getElementById(`correct-${l.id}`)?.focus()
                        }}
                      />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
        {lines.length > most && (
          <button
            className="btn !h-[26px] m-2"
            onClick={() => {
              setMost(most + 1000)
            }}
          >
            Show more of {lines.length}
          </button>
        )}
      </div>
    </>
  )
}

/** The columns of the table that a line is of. */
const columnsOf = (preview: Preview, l: Outcome) => preview.tables.find((t) => t.name === l.source)?.columns ?? []

/** The cells of a line, to be typed anew. */
function Cells(props: {
  of: Outcome
  columns: Schemas['TableColumn'][]
  busy: boolean
  onType: (to: string[]) => void
  onClose: () => void
}) {
  const { of, columns, busy, onType, onClose } = props
  const [typed, setTyped] = useState(() => columns.map((_, n) => of.cells?.[n] ?? ''))
  const named = (n: number) => holds.find(([id]) => id !== '' && id === columns[n]?.holds)?.[1]
  return (
    <form
      aria-label={`Cells of line ${of.number}`}
      data-closes
      className="flex flex-wrap gap-2 items-end py-1"
      onSubmit={(e) => {
        e.preventDefault()
        onType(typed)
      }}
      onKeyDown={(e) => {
        if (e.key === 'Escape') onClose()
      }}
    >
      {columns.map((c, n) => (
        <div key={n} className="w-[150px]">
          <Field
            label={c.title || named(n) || `Column ${n + 1}`}
            mono
            autoFocus={n === 0}
            value={typed[n] ?? ''}
            onChange={(e) => {
              setTyped(typed.map((was, k) => (k === n ? e.target.value : was)))
            }}
          />
        </div>
      ))}
      <button className="btn !h-[28px]" disabled={busy}>
        Compare it again
      </button>
    </form>
  )
}

function Which({ label, on, onChoose }: { label: string; on: boolean; onChoose: () => void }) {
  return (
    <button className={`btn !h-[26px] ${on ? '!bg-basalt !text-on-basalt' : ''}`} aria-pressed={on} onClick={onChoose}>
      {label}
    </button>
  )
}

/** A file's octets in Base64. */
const base64 = (file: File) =>
  new Promise<string>((done, failed) => {
    const reader = new FileReader()
    reader.onload = () => {
      done((reader.result as string).replace(/^[^,]*,/, ''))
    }
    reader.onerror = () => {
      failed(new Error(`${file.name} cannot be read`))
    }
    reader.readAsDataURL(file)
  })
