import type { Router } from 'vue-router'

// What the keyboard does, in one table: the list that ? opens, and what App does when a key is pressed.
export interface Shortcut {
  keys: string[]
  does: string
}

export const placeKeys: Record<string, string> = {
  f: 'floor',
  l: 'line',
  e: 'operate',
  t: 'lots',
  p: 'procedures',
  n: 'nameplates',
  b: 'bench',
  r: 'runs',
  o: 'overlay',
  c: 'cells',
  a: 'office',
}

export const shortcuts: { about: string; all: Shortcut[] }[] = [
  {
    about: 'Everywhere',
    all: [
      { keys: ['?'], does: 'this list' },
      ...Object.entries(placeKeys).map(([key, place]) => ({ keys: ['g', key], does: `go to the place ${place}` })),
      { keys: ['1', '…', '9'], does: 'go to that bay of the floor' },
      { keys: ['/'], does: 'put the cursor into the first field of the page' },
      { keys: ['s'], does: 'stop what is in view: the run of this bay, or everything; it asks once' },
      { keys: ['F9'], does: 'kill everything that moves, at once, also while you write or a dialog is open' },
      { keys: ['t'], does: 'switch between light and dark' },
      { keys: ['Tab', 'Enter', 'Esc'], does: 'to the next thing that can be used; use it; close what has opened' },
    ],
  },
  {
    about: 'In curves that have the focus',
    all: [
      { keys: ['←', '→'], does: 'move the cursor; the second one with Shift' },
      { keys: ['+', '−', '0'], does: 'nearer, farther, everything' },
    ],
  },
]

// typing tells whether a key belongs to what somebody is writing or choosing in.
function typing(e: KeyboardEvent): boolean {
  const el = e.target instanceof Element ? e.target : null
  return Boolean(el?.closest('input, textarea, select, [contenteditable=true], [role=listbox], .v-overlay--active'))
}

// pendingFor is how long g waits for the letter of a place, ms.
const pendingFor = 1500

// listen does what keys ask for; list opens the list, theme changes the theme, bays are those of the floor in order.
export function listen(router: Router, on: { list: () => void; theme: () => void; bays: () => string[] }): () => void {
  let goUntil = 0
  function press(e: KeyboardEvent) {
    if (e.ctrlKey || e.metaKey || e.altKey || e.defaultPrevented || typing(e)) return
    const place = placeKeys[e.key]
    const going = performance.now() < goUntil
    goUntil = 0
    if (going && place) void router.push({ name: place })
    else if (e.key === 'g') goUntil = performance.now() + pendingFor
    else if (e.key === '?') on.list()
    else if (e.key === 't') on.theme()
    else if (e.key === 's') document.querySelector<HTMLElement>('button.at-thumb:not(:disabled)')?.click()
    else if (e.key === '/')
      document.querySelector<HTMLElement>('main input:not([type=checkbox]):not([type=file]), main textarea')?.focus()
    else if (/^[1-9]$/.test(e.key)) {
      const bay = on.bays()[Number(e.key) - 1]
      if (!bay) return
      void router.push({ name: 'bay', params: { bay } })
    } else return
    e.preventDefault()
  }
  window.addEventListener('keydown', press)
  return () => window.removeEventListener('keydown', press)
}
