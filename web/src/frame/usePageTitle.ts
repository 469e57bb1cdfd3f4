import { useEffect } from 'react'

/** The title of the page in the browser's own frame and its history: what is shown, then where. While nothing of it is
 * known it is left to whatever stands in the page's place. */
export function usePageTitle(...parts: (string | undefined)[]) {
  const known = parts.filter(Boolean)
  const title = known.length > 0 ? [...known, 'Lithos'].join(' · ') : undefined
  useEffect(() => {
    if (title) document.title = title
  }, [title])
}
