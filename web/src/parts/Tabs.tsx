import { Tabs as Radix } from 'radix-ui'
import { useEffect, useRef, type ReactNode } from 'react'

type Tab = { id: string; name: string; panel: ReactNode }

/** Several views of one thing, one at a time; the arrow keys go from tab to tab. */
export function Tabs({
  label,
  tabs,
  chosen,
  onChoose,
}: {
  label: string
  tabs: Tab[]
  chosen: string
  onChoose: (id: string) => void
}) {
  const asked = useRef(chosen)
  useEffect(() => {
    asked.current = chosen
  }, [chosen])
  return (
    <Radix.Root
      value={chosen}
      onValueChange={(to) => {
        // A click chooses a tab twice, as it is pressed and as it gets the focus: one step of the history.
        if (asked.current === to) return
        asked.current = to
        onChoose(to)
      }}
    >
      <Radix.List aria-label={label} className="flex flex-wrap gap-0.5 border-b border-seam mt-1.5 print:hidden">
        {tabs.map((t) => (
          <Radix.Trigger
            key={t.id}
            value={t.id}
            className={
              'px-3 max-[480px]:px-2 py-1.5 text-ink-2 hover:text-ink data-[state=active]:text-ink ' +
              'data-[state=active]:font-[640] data-[state=active]:shadow-[inset_0_-2px_var(--ink)]'
            }
          >
            {t.name}
          </Radix.Trigger>
        ))}
      </Radix.List>
      {tabs.map((t) => (
        <Radix.Content key={t.id} value={t.id} tabIndex={-1}>
          {t.id === chosen && t.panel}
        </Radix.Content>
      ))}
    </Radix.Root>
  )
}
