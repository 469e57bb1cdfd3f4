import { useMutation } from '@tanstack/react-query'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { SmallButton } from '../parts/SmallButton'

const marks: Record<string, [string, string]> = {
  pass: ['✓', 'text-malachite-ink'],
  fail: ['✗', 'text-cinnabar-ink'],
  skip: ['–', 'text-ink-3'],
}

/** Proves a name as who asks for its certificate does, and shows what came of each step. */
export function Prove({ site, certificate }: { site: string; certificate: string }) {
  const proved = useMutation({
    mutationFn: () =>
      call(api.POST('/api/sites/{site}/certificates/{certificate}/try', { params: { path: { site, certificate } } })),
  })
  const words: Record<string, string> = { pass: 'done', fail: 'failed', skip: 'left out' }
  return (
    <div className="mt-3">
      <SmallButton disabled={proved.isPending} onClick={() => proved.mutate()}>
        {proved.isPending ? 'Trying' : 'Try the proof'}
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
