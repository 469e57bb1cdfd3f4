import { useCallback, useEffect, useMemo, useReducer, useRef } from 'react'
import { Problem, problemOf, type Change } from '../api/client'
import { useCurrentOrder } from '../frame/currentOrder'
import { focusSoon } from '../frame/places'
import { usePageTitle } from '../frame/usePageTitle'
import { useKeys } from '../frame/useKeys'
import { addressAt, rangeText, type Selection, type Span } from '../ruler/geometry'
import type { Creatable } from '../ruler/Ruler'
import { announce } from '../parts/announce'
import { rememberSite } from './lastSite'
import { initial, reduce, type Asked } from './pageState'
import { useEdit, useLook, useTarget, useView } from './useSite'

/** Everything a site's page knows and does; the page itself only draws it. */
export function useSitePage(code: string) {
  const { id: currentId, take, head: current } = useCurrentOrder()
  const { look, go, tab, finding, face } = useLook(code)
  const { view, error } = useView(code, look)
  const edit = useEdit(code, look, go)
  const [state, dispatch] = useReducer(reduce, initial)
  const gone = useCallback(() => {
    const says = 'That finding is gone: it was fixed, or what it was about is no longer there.'
    dispatch({ do: 'say', says })
    announce(says)
  }, [])
  useTarget(code, look, finding, go, gone)
  const head = view?.order
  const network = view?.network
  useEffect(() => {
    rememberSite(code, network?.id)
  }, [code, network?.id])
  usePageTitle(face === 'names' ? 'Names' : network?.name, view?.site.name)

  const { mutateAsync } = edit
  const save = useCallback(
    async (change: Change, version?: number) => {
      if (!head) throw new Problem(409, 'Open a work order first.')
      dispatch({ do: 'say', says: '' })
      const changed = await mutateAsync({ head: { ...head, version: version ?? head.version }, change })
      announce(changed.order?.undo ?? '')
      return changed
    },
    [head, mutateAsync],
  )
  const saveOrSay = useCallback(
    (change: Change) => {
      save(change).catch((e: unknown) => {
        dispatch({ do: 'say', says: problemOf(e).message })
      })
    },
    [save],
  )
  const ordered = head !== undefined
  const ask = useCallback(
    (asked: Asked) => {
      dispatch({ do: 'ask', asked, ordered })
      if (ordered && asked.kind === 'change') saveOrSay(asked.change)
    },
    [ordered, saveOrSay],
  )
  const change = useCallback(
    (c: Change) => {
      ask({ kind: 'change', change: c })
    },
    [ask],
  )
  // What waits for a work order is done as soon as its draft is on the page.
  const { waiting } = state
  useEffect(() => {
    if (!ordered || !waiting) return
    dispatch({ do: 'ordered' })
    if (waiting.kind === 'change') saveOrSay(waiting.change)
  }, [ordered, waiting, saveOrSay])

  const select = useCallback(
    (ref: string) => {
      go({ select: ref })
      dispatch({ do: 'sheet', open: true })
    },
    [go],
  )
  const inspect = useCallback(() => {
    dispatch({ do: 'sheet', open: true })
    focusSoon('aside[aria-label=Inspector] [data-title]')
  }, [])
  const create = useCallback(
    (kind: Creatable, run: string) => {
      const field = {
        pool: 'ranges',
        exclusion: 'range',
        reservation: 'address',
        fixed: 'address',
        record: 'data',
      }[kind]
      ask({ kind: 'form', form: { kind, values: run ? { [field]: run } : {} } })
    },
    [ask],
  )
  const selection = useRef<Selection>(undefined)
  const ruler = useMemo(
    () => ({
      onSelect: select,
      onFinding: (id: string) => {
        go({ finding: id })
        dispatch({ do: 'sheet', open: true })
      },
      onCreate: create,
      onResize: (span: Span, to: string) => {
        change({ resize: { part: span.ref ?? '', in: span.in, range: span.range, to } })
      },
      onWindow: (from: number) => {
        go({ from })
      },
      onSelection: (s?: Selection) => {
        selection.current = s
      },
    }),
    [select, go, create, change],
  )
  // Where the keys have gone already: the page may still be on its way there.
  const bound = useRef<string>(undefined)
  useEffect(() => {
    bound.current = undefined
  }, [network?.id])
  const step = (by: number) => {
    const ids = view?.layers.flatMap((l) => l.id ?? []) ?? []
    const next = ids[ids.indexOf(bound.current ?? network?.id ?? '') + by]
    if (!next) return
    bound.current = next
    go({ network: next })
  }
  const chosen = () => (selection.current && network ? rangeText(network.ruler, selection.current) : '')
  const first = () => (selection.current && network ? addressAt(network.ruler, selection.current.from) : '')
  /** Names what is selected: a pinned machine has a name of its own, an address gets a record. */
  const name = () => {
    const [kind = '', id = ''] = (look.select ?? '').split(/:(.*)/)
    const pin =
      view && view.part.ref === look.select ? view.part.actions.find((a) => a.entry?.kind === 'reservation') : undefined
    if (kind === 'reservation' || kind === 'fixed') ask({ kind: 'form', form: { kind, id } })
    else if (pin?.entry) ask({ kind: 'form', form: { kind: 'reservation', values: pin.entry.fields } })
    else create('record', kind === 'seen' ? id : first())
  }
  useKeys({
    '[': () => {
      step(-1)
    },
    ']': () => {
      step(1)
    },
    p: () => {
      create('pool', chosen())
    },
    x: () => {
      if (network?.pools.length) create('exclusion', chosen())
    },
    r: () => {
      create('reservation', first())
    },
    f: () => {
      create('fixed', first())
    },
    n: () => {
      if (face !== 'names') name()
    },
    q: () => {
      if (face !== 'names') go({ face: 'names' })
      focusSoon('#ask-name')
    },
    t: () => {
      go({ tab: 'try' })
      focusSoon('form[aria-label="Try a client"] input')
    },
    d: () => {
      go({ tab: 'devices' })
      focusSoon('section[aria-label^=Device] [data-row][tabindex="0"]')
    },
    a: () => {
      ask({ kind: 'form', form: { kind: 'network', values: {} } })
    },
    w: () => {
      if (!head) ask({ kind: 'order' })
    },
    i: inspect,
    Escape: () => {
      if (state.sheet) dispatch({ do: 'sheet', open: false })
    },
  })
  // A work order that is being taken up is not on the page yet.
  const arriving = currentId !== undefined && (!current || (current.site === code && current.state === 'open'))
  return {
    code,
    view,
    error,
    look,
    go,
    tab,
    face,
    state,
    dispatch,
    head,
    current,
    arriving,
    take,
    busy: edit.isPending,
    save,
    change,
    ask,
    select,
    inspect,
    ruler,
  }
}

export type Page = ReturnType<typeof useSitePage>
