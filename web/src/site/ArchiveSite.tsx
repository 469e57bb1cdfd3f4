import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { SmallButton } from '../parts/SmallButton'
import { Window } from '../parts/Window'

/** Archives a site that is looked after no more. */
export function ArchiveSite({ site, name }: { site: string; name: string }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [asking, setAsking] = useState(false)
  const put = useMutation({
    mutationFn: () => call(api.POST('/api/sites/{site}/archive', { params: { path: { site } }, body: { away: true } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['sites'] })
      void navigate('/rounds')
    },
  })
  return (
    <>
      <SmallButton className="mt-4" onClick={() => setAsking(true)}>
        Archive this site
      </SmallButton>
      <Window title={`Archive ${name}`} open={asking} onClose={() => setAsking(false)}>
        <p className="mt-2">
          It keeps its history and can be brought back from Rounds. Until then it is on no list, its devices are not
          read, and no work order is opened there. Nothing changes on its devices.
        </p>
        <Alert className="mt-2">{put.error && problemOf(put.error).message}</Alert>
        <span className="flex justify-end gap-2 mt-3">
          <button className="btn" onClick={() => setAsking(false)}>
            Cancel
          </button>
          <button className="btn btn-next" disabled={put.isPending} onClick={() => put.mutate()}>
            Archive it
          </button>
        </span>
      </Window>
    </>
  )
}
