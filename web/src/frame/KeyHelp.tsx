import { useState } from 'react'
import { Window } from '../parts/Window'
import { singleKeys, switchSingleKeys } from './useKeys'

const groups: [string, [string, string][]][] = [
  [
    'Everywhere',
    [
      ['/', 'find'],
      ['g r', 'Rounds'],
      ['g s', 'Sites'],
      ['g o', 'Work orders'],
      ['g t', 'Standards'],
      ['Ctrl Z', 'undo'],
      ['Ctrl Shift Z', 'redo'],
      ['Ctrl Enter', 'rehearse, then push'],
      ['l  b', 'to the list, the work order'],
      ['?', 'all keys'],
    ],
  ],
  [
    'On a site',
    [
      ['[  ]', 'previous, next network'],
      ['p', 'pool'],
      ['x', 'exclude'],
      ['r', 'reserve'],
      ['f', 'fixed device'],
      ['n', 'name'],
      ['q', 'ask'],
      ['t', 'try a client'],
      ['d', 'devices'],
      ['a', 'add a network'],
      ['w', 'open a work order'],
      ['u  i', 'to the ruler, the inspector'],
    ],
  ],
  [
    'In a list',
    [
      ['↑ ↓', 'one row up, down'],
      ['PgUp PgDn', 'ten rows'],
      ['Home End', 'first, last row'],
      ['a b c …', 'the row that begins so'],
      ['Enter', 'open the row'],
      ['Esc', 'leave the list: letters are keys again'],
    ],
  ],
  [
    'On the ruler',
    [
      ['← →', 'move by one address'],
      ['Shift ← →', 'extend the selection'],
      ['↑ ↓  PgUp PgDn', 'move by a row'],
      ['Home End', 'first, last address'],
      ['Enter', 'open what is there'],
      ['Esc', 'drop the selection'],
    ],
  ],
]

export function KeyHelp({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [single, setSingle] = useState(singleKeys)
  const flip = (on: boolean) => {
    switchSingleKeys(on)
    setSingle(on)
  }
  return (
    <Window title="All keys" says="No key fires while you type in a field." open={open} onClose={onClose} wide>
      <div className="grid sm:grid-cols-2 gap-5 mt-4">
        {groups.map(([name, keys]) => (
          <section key={name}>
            <h2>{name}</h2>
            <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1.5">
              {keys.map(([key, says]) => (
                <div key={key} className="contents">
                  <dt>
                    <kbd>{key}</kbd>
                  </dt>
                  <dd>{says}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      <label className="mt-5 flex items-center gap-2">
        <input type="checkbox" checked={single} onChange={(e) => flip(e.target.checked)} /> Single-key shortcuts
      </label>
      <button className="btn mt-4" onClick={onClose}>
        Close
      </button>
    </Window>
  )
}
