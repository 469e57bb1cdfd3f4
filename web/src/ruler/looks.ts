/** How what is planned for a run of addresses is drawn, by its kind. */
export const looks: Record<string, { fill: string; stroke: string; text: string }> = {
  pool: { fill: 'var(--malachite-t)', stroke: 'var(--malachite)', text: 'var(--malachite-ink)' },
  exclusion: { fill: 'url(#excluded)', stroke: 'var(--sand)', text: 'var(--sand-ink)' },
  reserved: { fill: 'none', stroke: 'var(--ink-3)', text: 'var(--ink-2)' },
  dynamic: { fill: 'none', stroke: 'var(--malachite)', text: 'var(--malachite-ink)' },
}

/** How who holds an address is drawn. */
export const shapes: Record<string, { outline: string; top: number; left: number; fill: string }> = {
  reservation: { outline: 'l5 -12 l5 12z', top: 40, left: 5, fill: 'var(--amethyst)' },
  fixed: { outline: 'h8v8h-8z', top: 31, left: 4, fill: 'var(--ink)' },
  interface: { outline: 'l5 5.500 l-5 5.500 l-5 -5.500z', top: 29, left: 0, fill: 'var(--ink)' },
}

/** The shape that a kind of pin has: everything that is neither reserved nor fixed is an interface. */
export const pinKind = (kind: string) => (kind in shapes ? kind : 'interface')
