import { usePageTitle } from '../frame/usePageTitle'

/** Where a page will stand: its heading, as far as that is known, and that it loads. */
export function Loading({ of }: { of: string }) {
  usePageTitle(of)
  return (
    <div className="p-8 max-w-[520px]" aria-busy="true">
      <h1>{of}</h1>
      <p role="status" className="mt-2 text-ink-2">
        Loading
      </p>
    </div>
  )
}
