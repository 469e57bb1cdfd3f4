import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { SmallButton } from '../parts/SmallButton'
import { Table } from '../parts/Table'
import { When } from '../parts/When'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'
import { useInAddress } from '../parts/useInAddress'

type Act = Schemas['ResolverAct']

/** What a device's resolver keeps and was asked, as it is now. */
export function ResolverStatus({ site, resolver, onClose }: { site: string; resolver: string; onClose: () => void }) {
  const client = useQueryClient()
  const key = ['resolver', site, resolver]
  const params = { path: { site, resolver } }
  const state = useQuery({
    queryKey: key,
    refetchInterval: 2000,
    retry: false,
    queryFn: () => call(api.GET('/api/sites/{site}/resolvers/{resolver}', { params })),
  })
  const act = useMutation({
    mutationFn: (body: Act) => call(api.POST('/api/sites/{site}/resolvers/{resolver}', { params, body })),
    onSuccess: (now) => client.setQueryData(key, now),
  })
  const [filter, setFilter] = useInAddress('asked')
  const problem = state.error ?? act.error
  const s = state.data?.state
  const matches = (text: string) => text.toLowerCase().includes(filter.toLowerCase())
  return (
    <Window
      title={`The resolver of ${state.data?.device ?? 'the device'}`}
      says="Read from the device every two seconds. Nothing here is configuration."
      open
      onClose={onClose}
      wide
    >
      <Alert className="mt-2">{problem && problemOf(problem).message}</Alert>
      {s && (
        <>
          <p className="mt-3" role="status">
            {plural(s.counters.asked, 'question')} · {s.counters['from-cache']} from cache · {s.counters.forwarded}{' '}
            forwarded · {s.counters.refused} refused · {s.counters.failed} failed
          </p>
          <p className="text-ink-2 text-[12.5px]">
            {(s.listener ?? []).length === 0
              ? 'Nothing listens for questions.'
              : (s.listener ?? []).map((l) => `${listens(l)} on port ${l.port} (${l.protocol})`).join(' · ')}
          </p>
          <div className="flex flex-wrap gap-2 items-center mt-3">
            <h2 className="font-semibold">Questions</h2>
            {s['written-until'] ? (
              <>
                <span className="text-ink-2">
                  written down until <When at={s['written-until']} clock />
                </span>
                <SmallButton onClick={() => act.mutate({ watch: -1 })}>End it</SmallButton>
              </>
            ) : (
              <SmallButton onClick={() => act.mutate({ watch: 300 })}>Write them down for 5 minutes</SmallButton>
            )}
            <input
              aria-label="Filter questions and answers"
              placeholder="Filter"
              className="field !h-[26px] !w-[150px] ml-auto"
              value={filter}
              onChange={(e) => setFilter(e.target.value)}
            />
          </div>
          <Questions
            list={(s.question ?? []).filter((q) => matches(`${q.from ?? ''} ${q.name} ${q.type} ${q.data ?? ''}`))}
          />
          <div className="flex gap-2 items-center mt-3">
            <h2 className="font-semibold">{plural((s.answer ?? []).length, 'kept answer')}</h2>
            {(s.answer ?? []).length > 0 && (
              <SmallButton onClick={() => act.mutate({ flush: true })}>Flush the cache</SmallButton>
            )}
          </div>
          <Kept
            list={(s.answer ?? []).filter((a) => matches(`${a.name} ${a.type} ${(a.data ?? []).join(' ')}`))}
            onForget={(name) => act.mutate({ flush: true, name })}
          />
        </>
      )}
      <div className="flex justify-end mt-4">
        <button className="btn" onClick={onClose}>
          Close
        </button>
      </div>
    </Window>
  )
}

const listens = (l: Schemas['Listener']) => (l.other ? `${l.program}, another program,` : l.program)

const box = 'max-h-[24vh] overflow-auto relative border border-seam mt-1'
const most = 200

function Questions({ list }: { list: Schemas['Question'][] }) {
  if (list.length === 0) return <p className="text-ink-2 mt-1">None is written down.</p>
  return (
    <div className={box} tabIndex={0} role="group" aria-label="Questions, the newest first">
      <Table columns={[['Who', '112px'], ['Asked'], ['Type', '60px'], ['Answer'], ['From', '100px'], ['Time', '76px']]}>
        <tbody>
          {list.slice(0, most).map((q) => (
            <tr key={q.number}>
              <td className="list-cell mono">{q.from ?? 'itself'}</td>
              <td className="list-cell mono" title={q.name}>
                {q.name}
              </td>
              <td className="list-cell mono">{q.type}</td>
              <td className="list-cell mono">{q.data ?? q.code}</td>
              <td className="list-cell text-ink-2">{q.layer}</td>
              <td className="list-cell text-ink-2">{(q.microseconds / 1000).toFixed(1)} ms</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  )
}

function Kept({ list, onForget }: { list: Schemas['Answer'][]; onForget: (name: string) => void }) {
  if (list.length === 0) return null
  return (
    <div className={box} tabIndex={0} role="group" aria-label="Kept answers">
      <Table columns={[['Name'], ['Type', '60px'], ['Answer'], ['Left', '76px'], ['Forget', '76px']]}>
        <tbody>
          {list.slice(0, most).map((a) => (
            <tr key={a.name + a.type}>
              <td className="list-cell mono" title={a.name}>
                {a.name}
              </td>
              <td className="list-cell mono">{a.type}</td>
              <td className="list-cell mono">{(a.data ?? []).join(', ') || a.code}</td>
              <td className="list-cell text-ink-2">{a.ttl} s</td>
              <td className="list-cell">
                <button className="hover:underline" aria-label={`Forget ${a.name}`} onClick={() => onForget(a.name)}>
                  Forget
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  )
}
