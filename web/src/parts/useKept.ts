import { useEffect, useState } from 'react'

/** What was kept on this machine under a key; undefined where nothing was, or it cannot be read. */
export function kept(key: string): unknown {
  try {
    const text = localStorage.getItem(key)
    return text ? JSON.parse(text) : undefined
  } catch {
    return undefined
  }
}

/** What is typed into a page, kept on this machine until it is forgotten: leaving the page loses nothing. */
export function useKept<T>(key: string, fresh: T) {
  const [value, setValue] = useState<T>(() => (kept(key) as T | undefined) ?? fresh)
  const isFresh = JSON.stringify(value) === JSON.stringify(fresh)
  useEffect(() => {
    if (isFresh) localStorage.removeItem(key)
    else localStorage.setItem(key, JSON.stringify(value))
  }, [key, value, isFresh])
  /** Forgets it at once: the page may be left before it is drawn again. */
  const forget = () => {
    localStorage.removeItem(key)
    setValue(fresh)
  }
  return { value, set: setValue, isFresh, forget }
}
