import { useState } from 'react'
import { Alert } from './Alert'

const most = 4 << 20

/** Reads the text of a file of the technician's into a field beside it. */
export function FromFile({ what, onText }: { what: string; onText: (text: string) => void }) {
  const [problem, setProblem] = useState('')
  return (
    <>
      <label className="block text-ink-2 text-[12.5px] mt-1">
        or read a file:{' '}
        <input
          type="file"
          aria-label={`${what}, from a file`}
          className="text-[12.5px] max-w-full"
          onChange={(e) => {
            const file = e.target.files?.[0]
            if (!file) return
            setProblem(file.size > most ? 'The file is larger than 4 MB; read it in parts.' : '')
            if (file.size <= most) void file.text().then(onText)
          }}
        />
      </label>
      <Alert className="mt-1">{problem}</Alert>
    </>
  )
}
