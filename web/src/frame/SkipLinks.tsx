import { useState } from 'react'
import { focusPlace, places } from './places'

/** The first stops of the Tab key: past the bar at the top, to each part of the page there is. */
export function SkipLinks() {
  const [there, setThere] = useState<string[]>(['main'])
  const look = () => {
    setThere(places.map(([place]) => place).filter((place) => document.querySelector(`[data-place~=${place}]`)))
  }
  return (
    <nav
      aria-label="Skip"
      className="fixed top-1 left-1 z-50 flex gap-1 -translate-y-16 focus-within:translate-y-0 print:hidden"
      onFocus={look}
    >
      {places
        .filter(([place]) => there.includes(place))
        .map(([place, says]) => (
          <a
            key={place}
            href={`#${place}`}
            className="btn"
            onClick={(e) => {
              e.preventDefault()
              focusPlace(place)
            }}
          >
            {says}
          </a>
        ))}
    </nav>
  )
}
