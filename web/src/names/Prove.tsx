import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { SmallButton } from '../parts/SmallButton'

const marks: Record<string, [string, string]> = {
  pass: ['✓', 'text-malachite-ink'],
  fail: ['✗', 'text-cinnabar-ink'],
  skip: ['–', 'text-ink-3'],
}

/** Proves a name as who asks for its certificate does. */
export const Prove = ({ site, certificate }: { site: string; certificate: string }) => (
  <Steps
    label="Try the proof"
    act={() =>
      call(api.POST('/api/sites/{site}/certificates/{certificate}/try', { params: { path: { site, certificate } } }))
    }
  />
)

/** Tells a name the address of its line now, and climbs from the line to the world. */
export const SendNow = ({ site, following }: { site: string; following: string }) => (
  <Steps
    label="Send it now and try it"
    act={() => call(api.POST('/api/sites/{site}/following/{following}/try', { params: { path: { site, following } } }))}
  />
)

/** A trial in steps, with what came of each. */
function Steps({ label, act }: { label: string; act: () => Promise<Schemas['Proved'][]> }) {
  const client = useQueryClient()
  const proved = useMutation({ mutationFn: act, onSettled: () => client.invalidateQueries({ queryKey: ['view'] }) })
  const words: Record<string, string> = { pass: 'done', fail: 'failed', skip: 'left out' }
  return (
    <div className="mt-3">
      <SmallButton disabled={proved.isPending} onClick={() => proved.mutate()}>
        {proved.isPending ? 'Trying' : label}
      </SmallButton>
      <Alert className="mt-2">{proved.error && problemOf(proved.error).message}</Alert>
      <div role="status">
        <ol className="mt-2">
          {(proved.data ?? []).map((s) => (
            <li key={s.title} className="grid grid-cols-[18px_1fr] py-1 border-b border-seam-2">
              <span className={marks[s.state]?.[1]}>
                {marks[s.state]?.[0]}
                <span className="sr-only">{words[s.state]}</span>
              </span>
              <span className="[overflow-wrap:anywhere]">
                {s.title}
                <span className="block text-[12.5px] text-ink-2">{s.says}</span>
              </span>
            </li>
          ))}
        </ol>
      </div>
    </div>
  )
}
