/** The shape of a kind: never told by colour alone. */
export function Shape({ kind }: { kind: string }) {
  return (
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden className="inline-block mr-2 shrink-0 align-[-1px]">
      {(kind === 'network' || kind === 'site') && (
        <path d="M0 2 H10 M0 5 H10 M0 8 H10" stroke="var(--slate)" strokeWidth="1.600" />
      )}
      {kind === 'reservation' && <path d="M0.500 9.500 L5 0.500 L9.500 9.500Z" fill="var(--amethyst)" />}
      {kind === 'fixed' && <rect x="1" y="1" width="8" height="8" fill="var(--ink)" />}
      {(kind === 'gateway' || kind === 'interface') && <path d="M5 0 L10 5 L5 10 L0 5Z" fill="var(--ink)" />}
      {kind === 'pool' && (
        <rect x="0.500" y="1.500" width="9" height="7" fill="var(--malachite-t)" stroke="var(--malachite)" />
      )}
      {kind === 'exclusion' && (
        <>
          <rect x="0.500" y="1.500" width="9" height="7" fill="var(--sand-t)" stroke="var(--sand)" />
          <path d="M1 8 L6 2 M5 8 L9 3" stroke="var(--sand)" />
        </>
      )}
      {kind === 'finding' && <path d="M1 9 L5 1 L9 9Z" fill="none" stroke="var(--sand)" strokeWidth="1.6" />}
      {kind === 'order' && <path d="M1.500 1 H8.500 V9 H1.500Z M3.500 4 H6.500" fill="none" stroke="var(--ink-2)" />}
      {(kind === 'unrecorded' || kind === 'seen') && (
        <circle cx="5" cy="5" r="3.500" fill="none" stroke="var(--sand)" strokeWidth="1.800" />
      )}
    </svg>
  )
}

const marks: Record<string, { glyph: string; says: string; className: string }> = {
  blocks: { glyph: '■', says: 'blocks the push', className: 'text-cinnabar' },
  warns: { glyph: '▲', says: 'warning', className: 'text-sand' },
  notes: { glyph: '○', says: 'note', className: 'text-ink-3' },
}

/** How grave a finding is, as a shape with a word for screen readers. */
export function Mark({ severity }: { severity: string }) {
  const m = marks[severity]
  return m ? (
    <span className={`${m.className} text-[11px]`} title={m.says}>
      <span aria-hidden>{m.glyph}</span>
      <span className="sr-only">{m.says}</span>
    </span>
  ) : null
}
