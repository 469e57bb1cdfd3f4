import { useState } from 'react'
import { problemOf, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { FindingCard } from '../parts/FindingCard'
import { SmallButton } from '../parts/SmallButton'
import type { Page } from '../site/useSitePage'
import { SendNow, useSending } from './Prove'
import { Attempts, Keeping, Standing, Tracks } from './Tracks'

/** A name that follows a line: how it stands, what helps, who keeps it, and the trial from the line to the world. */
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
  const [meant, setMeant] = useState('')
  const [lives, setLives] = useState('')
  const [says, setSays] = useState('')
  const haveKey = (follow: boolean, before?: 'keep' | 'end') => {
    setMeant('')
    setLives('')
    setSays('')
    const change = { keyFor: id, follow, before }
    if (!page.head) {
      page.ask({ kind: 'change', change })
      return
    }
    page.save(change).catch((e: unknown) => {
      const problem = problemOf(e)
      if (problem.fields.follow) setMeant(problem.message)
      else if (problem.fields.before) setLives(problem.message)
      else setSays(problem.message)
    })
  }
  return (
    <>
      {findings.map((f) => (
        <FindingCard
          key={f.id}
          finding={f}
          busy={page.busy || sending.isPending}
          onFix={(other) => page.change({ fix: f.id, other: other || undefined })}
          onRemedy={(remedy) => (remedy.do === 'send' ? sending.mutate() : haveKey(false))}
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
      {meant && (
        <div role="alert" className="border-l-3 border-sand bg-sand-t px-2.5 py-2 my-2 text-[13px]">
          <p>{meant}</p>
          <span className="flex flex-wrap gap-1.5 mt-1.5">
            <SmallButton onClick={() => haveKey(true)}>Let it follow</SmallButton>
            <SmallButton onClick={() => setMeant('')}>Leave it as it is</SmallButton>
          </span>
        </div>
      )}
      {lives && (
        <div role="alert" className="border-l-3 border-sand bg-sand-t px-2.5 py-2 my-2 text-[13px]">
          <p>{lives}</p>
          <span className="flex flex-wrap gap-1.5 mt-1.5">
            <SmallButton onClick={() => haveKey(false, 'end')}>Make another and end that one</SmallButton>
            <SmallButton onClick={() => haveKey(false, 'keep')}>Make another and keep that one</SmallButton>
            <SmallButton onClick={() => setLives('')}>Make none</SmallButton>
          </span>
        </div>
      )}
      {keys && (
        <SmallButton disabled={page.busy} onClick={() => haveKey(false)}>
          Have a key made for it
        </SmallButton>
      )}
      <SendNow site={page.code} following={id} trial={sending} />
      <Attempts of={of} />
    </>
  )
}
