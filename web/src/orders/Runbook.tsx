import { Fragment, useState } from 'react'
import { api, call, type Schemas } from '../api/client'
import { useOrderAct } from '../api/queries'
import { announce } from '../parts/announce'
import { Copy } from '../parts/Copy'
import { Field } from '../parts/Field'
import { Marked } from '../parts/Marked'
import { When } from '../parts/When'

type Line = Schemas['HandLine']

const parts: Record<Line['part'], string> = {
  do: 'type this at its console',
  ask: 'then say what it shows',
  back: 'put it back',
}

/** What somebody does at the consoles of devices that Lithos does not reach, ticked line by line. */
export function Runbook({ push, order }: { push: Schemas['PushView']; order: number }) {
  const open = push.state === 'byhand'
  const groups: { title: string; part: Line['part']; lines: Line[] }[] = []
  for (const line of push.hand) {
    const last = groups.at(-1)
    if (last?.title === line.device && last.part === line.part) last.lines.push(line)
    else groups.push({ title: line.device, part: line.part, lines: [line] })
  }
  return (
    <section aria-label="Runbook" className="mt-3">
      {groups.map((g) => (
        <div key={g.title + g.part} className="bg-sheet border border-seam mb-3">
          <h3 className="px-3 pt-2">
            <b>{g.title}</b>: {parts[g.part]}
          </h3>
          <ol>
            {g.lines.map((l) => (
              <LineRow
                key={l.seq}
                line={l}
                number={l.number}
                order={order}
                can={g.part === 'back' ? push.state === 'failed' : open}
                next={nextOf(push.hand, l)}
              />
            ))}
          </ol>
        </div>
      ))}
      <p className="text-[12.5px] print:hidden">
        <a className="underline" href={`/api/orders/${order}/runbook`} download>
          The runbook on paper, as PDF
        </a>{' '}
        <a className="underline" href={`/api/orders/${order}/runbook?as=markdown`} download>
          as Markdown
        </a>
      </p>
    </section>
  )
}

/** Whether a line is the one whose turn it is on its device. */
function nextOf(all: Line[], line: Line): boolean {
  const back = line.part === 'back'
  return all.find((o) => o.device === line.device && (o.part === 'back') === back && !o.at)?.seq === line.seq
}

function LineRow({
  line,
  number,
  order,
  can,
  next,
}: {
  line: Line
  number: number
  order: number
  can: boolean
  next: boolean
}) {
  const { act, problem, busy } = useOrderAct(order)
  const [seen, setSeen] = useState(line.answer ?? '')
  const tick = async (said: string) => {
    const done = await act(() =>
      call(
        api.POST('/api/orders/{order}/runbook/tick', {
          params: { path: { order } },
          body: { seq: line.seq, seen: said },
        }),
      ),
    )
    if (done) announce(`Ticked: ${line.says}`)
  }
  const untick = () =>
    act(() =>
      call(api.POST('/api/orders/{order}/runbook/untick', { params: { path: { order } }, body: { seq: line.seq } })),
    )
  return (
    <li className="grid grid-cols-[26px_1fr] gap-2 px-3 py-2 border-t border-seam-2">
      <span
        className={
          'min-w-[22px] h-[22px] border-[1.5px] grid place-items-center mono !text-[11.5px] ' +
          (line.at ? 'bg-malachite-t border-malachite text-malachite-ink' : 'border-ink-3 text-ink-2')
        }
        aria-hidden
      >
        {line.at ? '✓' : number}
      </span>
      <div className="min-w-0">
        <Marked text={line.says} />
        {line.why && (
          <div className="text-[12.5px] text-ink-3">
            <Marked text={line.why} />
          </div>
        )}
        {line.values.length > 0 && (
          <dl className="mt-1 grid grid-cols-[minmax(110px,160px)_1fr] gap-x-3 text-[13px] items-baseline">
            {line.values.map((v, i) => (
              <Fragment key={i}>
                <dt className="text-ink-2">{v.name}</dt>
                <dd className="min-w-0">
                  <Copy text={v.text} className="mono" />
                </dd>
              </Fragment>
            ))}
          </dl>
        )}
        {line.part === 'ask' && !line.at && (
          <>
            <p className="text-[12.5px] text-ink-2 mt-1">
              It should show <span className="mono">{line.expect}</span>.
            </p>
            {can && next && (
              <form
                className="flex flex-wrap gap-2 items-end mt-1"
                onSubmit={(e) => {
                  e.preventDefault()
                  void tick(seen)
                }}
              >
                <div className="w-[260px]">
                  <Field label="It shows" mono value={seen} maxLength={200} onChange={(e) => setSeen(e.target.value)} />
                </div>
                <button className="btn" disabled={busy || seen.trim() === ''}>
                  Say so
                </button>
                <button type="button" className="btn" disabled={busy} onClick={() => void tick(line.expect ?? '')}>
                  It shows this
                </button>
              </form>
            )}
          </>
        )}
        {line.at ? (
          <div className="text-[12.5px] text-ink-2">
            {line.part === 'ask' && (
              <>
                Seen: <span className="mono">{line.answer}</span>.{' '}
              </>
            )}
            Done by {line.by}, <When at={line.at} />
            {can && (
              <>
                {' · '}
                <button
                  className="hover:underline"
                  disabled={busy}
                  aria-label={`Undo: ${line.says}`}
                  onClick={() => void untick()}
                >
                  Undo
                </button>
              </>
            )}
          </div>
        ) : (
          can &&
          next &&
          line.part !== 'ask' && (
            <button
              className="btn mt-1.5"
              disabled={busy}
              aria-label={`Done: ${line.says}`}
              onClick={() => void tick('')}
            >
              Done
            </button>
          )
        )}
        {problem && (
          <div role="alert" className="text-cinnabar-ink mt-1">
            {problem}
          </div>
        )}
      </div>
    </li>
  )
}
