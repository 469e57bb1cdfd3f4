import { useState } from 'react'
import { problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { FindingCard } from '../parts/FindingCard'
import { SmallButton } from '../parts/SmallButton'
import type { Page } from '../site/useSitePage'
import { SendNow, useSending } from './Prove'
import { AskFirst } from './AskFirst'
import { Attempts, Keeping, Standing, Tracks } from './Tracks'

/** What was answered to what is asked before a key is made. */
type Answers = { follow?: boolean; before?: 'keep' | 'end' }

/** A dynamic name: how it stands, what helps, who keeps it, and the trial from the line to the world. */
export function Follower({
  page,
  of,
  findings,
  keys,
}: {
  page: Page
  of: Schemas['Following']
  findings: Schemas['Finding'][]
  keys: boolean
}) {
  const id = of.ref.slice('following:'.length)
  const sending = useSending(page.code, id)
  const [asked, setAsked] = useState<{ field: keyof Answers; says: string; answers: Answers }>()
  const [says, setSays] = useState('')
  const haveKey = (answers: Answers = {}) => {
    setAsked(undefined)
    setSays('')
    const change = { keyFor: id, ...answers }
    if (!page.head) {
      page.ask({ kind: 'change', change })
      return
    }
    page.save(change).catch((e: unknown) => {
      const problem = problemOf(e)
      const field = (['follow', 'before'] as const).find((f) => problem.fields[f])
      if (field) setAsked({ field, says: problem.message, answers })
      else setSays(problem.message)
    })
  }
  const answer = (more: Answers) => haveKey({ ...asked?.answers, ...more })
  return (
    <>
      {findings.map((f) => (
        <FindingCard
          key={f.id}
          finding={f}
          busy={page.busy || sending.isPending}
          onFix={(other) => page.change({ fix: f.id, other: other || undefined })}
          onRemedy={(remedy) => (remedy.do === 'send' ? sending.mutate() : haveKey())}
          onFixAll={() => page.ask({ kind: 'fixAll', rule: f.rule })}
        />
      ))}
      <p className="my-2">
        <Standing of={of} />
      </p>
      <Tracks of={of} />
      <div className="mt-2">
        <Keeping of={of} />
      </div>
      <Alert>{says}</Alert>
      {asked?.field === 'follow' && (
        <AskFirst says={asked.says} className="my-2">
          <SmallButton onClick={() => answer({ follow: true })}>Let it follow</SmallButton>
          <SmallButton onClick={() => setAsked(undefined)}>Leave it as it is</SmallButton>
        </AskFirst>
      )}
      {asked?.field === 'before' && (
        <AskFirst says={asked.says} className="my-2">
          <SmallButton onClick={() => answer({ before: 'end' })}>Make another and end that one</SmallButton>
          <SmallButton onClick={() => answer({ before: 'keep' })}>Make another and keep that one</SmallButton>
          <SmallButton onClick={() => setAsked(undefined)}>Make none</SmallButton>
        </AskFirst>
      )}
      {keys && (
        <SmallButton disabled={page.busy} onClick={() => haveKey()}>
          Have a key made for it
        </SmallButton>
      )}
      <SendNow site={page.code} following={id} trial={sending} />
      <Attempts of={of} />
    </>
  )
}
