import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { SmallButton } from '../parts/SmallButton'

type Step = Schemas['Proved']

const marks: Record<Step['state'], [string, string, string]> = {
  pass: ['✓', 'text-malachite-ink', 'done'],
  fail: ['✗', 'text-cinnabar-ink', 'failed'],
  skip: ['–', 'text-ink-3', 'left out'],
  wait: ['…', 'text-ink-2', 'waits'],
}

/** Proves a name as who asks for its certificate does. */
export function Prove({ site, certificate }: { site: string; certificate: string }) {
  const path = { site, certificate }
  const trial = useTrial(() => call(api.POST('/api/sites/{site}/certificates/{certificate}/try', { params: { path } })))
  return <Trial label="Try the proof" trial={trial} />
}

/** Tells a name the address of its line now, and climbs from the line to the world. */
export function useSending(site: string, following: string) {
  return useTrial(() =>
    call(api.POST('/api/sites/{site}/following/{following}/try', { params: { path: { site, following } } })),
  )
}

export function SendNow({ site, following, trial }: { site: string; following: string; trial: Trying }) {
  const steps = useFollowed(site, following, trial.data ?? [], trial.submittedAt)
  return <Trial label="Send it now and try it" trial={trial} steps={steps} />
}

type Trying = ReturnType<typeof useTrial>

function useTrial(act: () => Promise<Step[]>) {
  const client = useQueryClient()
  return useMutation({ mutationFn: act, onSettled: () => client.invalidateQueries({ queryKey: ['view'] }) })
}

/** How often resolvers that hold the old answer are asked again, in ms. */
const askedEvery = 3000

/** The steps with what has become of those that wait for resolvers to forget the old answer. */
function useFollowed(site: string, following: string, steps: Step[], began: number) {
  const client = useQueryClient()
  const told = steps.find((s) => s.title === 'The line has an address')?.says
  const waiting = steps.filter((s) => s.state === 'wait').map((s) => s.title)
  const key = ['resolvers', site, following, began]
  const path = { site, following }
  // After how many seconds each was seen to have the new address.
  const seen = useQuery({
    queryKey: key,
    queryFn: async () => {
      const after = { ...client.getQueryData<Record<string, number>>(key) }
      const held = await call(api.GET('/api/sites/{site}/following/{following}/resolvers', { params: { path } }))
      for (const r of held) {
        const title = `The resolver ${r.resolver} follows`
        if (r.addresses.join(' and ') !== told || after[title] || !waiting.includes(title)) continue
        after[title] = Math.max(1, Math.round((Date.now() - began) / 1000))
        announce(title)
      }
      return after
    },
    enabled: waiting.length > 0,
    refetchInterval: (q) => (waiting.every((title) => q.state.data?.[title]) ? false : askedEvery),
    gcTime: 0,
  })
  return steps.map((s) => {
    const after = seen.data?.[s.title]
    return after ? { ...s, state: 'pass' as const, says: `It has ${told} after ${after} s` } : s
  })
}

/** A trial in steps, with what came of each. */
function Trial({ label, trial, steps = trial.data ?? [] }: { label: string; trial: Trying; steps?: Step[] }) {
  return (
    <div className="mt-3">
      <SmallButton disabled={trial.isPending} onClick={() => trial.mutate()}>
        {trial.isPending ? 'Trying' : label}
      </SmallButton>
      <Alert className="mt-2">{trial.error && problemOf(trial.error).message}</Alert>
      <div role="status">
        <ol className="mt-2">
          {steps.map((s) => (
            <li key={s.title} className="grid grid-cols-[18px_1fr] py-1 border-b border-seam-2">
              <span className={marks[s.state][1]}>
                {marks[s.state][0]}
                <span className="sr-only">{marks[s.state][2]}</span>
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
