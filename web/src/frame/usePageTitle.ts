import { useEffect } from 'react'

/** The title of the page in the browser's own frame and its history: what is shown, then where. */
export function usePageTitle(...parts: (string | undefined)[]) {
  const title = [...parts.filter(Boolean), 'Lithos'].join(' · ')
  useEffect(() => {
    document.title = title
  }, [title])
}
