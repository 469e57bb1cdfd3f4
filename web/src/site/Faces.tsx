import { useNavigate } from 'react-router'

type Face = '' | 'names' | 'history'

/** The faces of a site: its addresses, its names, and what happened there. */
export function Faces({ face, code, onFace }: { face: Face; code: string; onFace?: (face: string) => void }) {
  const navigate = useNavigate()
  const to = (label: string, of: Face) => (
    <button
      className={
        'flex-1 h-[27px] text-[13px] ' +
        (of === face ? 'bg-basalt text-on-basalt font-semibold' : 'bg-slab text-ink-2 hover:bg-sheet')
      }
      aria-pressed={of === face}
      onClick={() => {
        if (onFace && of !== 'history') onFace(of)
        else void navigate(of === 'history' ? `/sites/${code}/history` : `/sites/${code}${of && `?face=${of}`}`)
      }}
    >
      {label}
    </button>
  )
  return (
    <div role="group" aria-label="What of the site" className="flex border border-seam rounded-sm overflow-hidden">
      {to('Addresses', '')}
      {to('Names', 'names')}
      {to('History', 'history')}
    </div>
  )
}
