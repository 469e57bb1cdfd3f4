import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { Choice } from '../parts/Field'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'

const formats = [
  { value: 'zone', label: 'Zone file (RFC 1035)' },
  { value: 'hosts', label: 'Hosts file' },
  { value: 'csv', label: 'CSV' },
  { value: 'transfer', label: 'Transfer, every record whole (RFC 5936)' },
]

type Format = 'zone' | 'hosts' | 'csv' | 'transfer'

/** A zone in an open format, to copy or to save. */
export function Export(props: { site: string; order?: number; zone: string; title: string; onClose: () => void }) {
  const { site, order, zone, title, onClose } = props
  const [format, setFormat] = useState<Format>('zone')
  const text = useQuery({
    queryKey: ['zone-text', site, order, zone, format],
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/zones/{zone}/text', { params: { path: { site, zone }, query: { order, format } } }),
      ),
    gcTime: 0,
  })
  const save = () => {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([text.data?.text ?? ''], { type: 'text/plain' }))
    link.download = text.data?.name ?? 'zone'
    link.click()
    URL.revokeObjectURL(link.href)
  }
  const left = text.data?.left ?? []
  return (
    <Window
      title={`Take ${title} out`}
      says="With the names of addresses and the services in it."
      open
      onClose={onClose}
      wide
    >
      <div className="mt-3">
        <Choice label="As" options={formats} value={format} onChange={(e) => setFormat(e.target.value as Format)} />
      </div>
      <Alert className="mt-2">{text.error && problemOf(text.error).message}</Alert>
      <textarea
        readOnly
        aria-label="The zone"
        className="field mono !h-[42vh] mt-3 whitespace-pre"
        value={text.data?.text ?? ''}
      />
      {left.length > 0 && (
        <p className="text-ink-2 mt-2">
          {plural(left.length, 'record')} this format cannot carry: {left.slice(0, 5).join(' · ')}
          {left.length > 5 && ' and others'}
        </p>
      )}
      <div className="flex justify-end gap-2 mt-3">
        <button className="btn" onClick={onClose}>
          Close
        </button>
        <button className="btn btn-next" disabled={!text.data} onClick={save}>
          Save as a file
        </button>
      </div>
    </Window>
  )
}
