import { onBeforeUnmount, onMounted } from 'vue'

/** Keys that work on every page, in the order of the sheet. */
export const KEYS: readonly (readonly [keys: string, does: string])[] = [
  ['?', 'Show these keys'],
  ['Alt + 1 … 0', 'Open a page of the menu, from the top'],
  ['/', 'Write a filter, or search'],
  ['↓ ↑', 'Move through the rows of a list'],
  ['Enter', 'Open the row'],
  ['e', 'Edit: go to the first field of a record'],
  ['Esc', 'Leave a field'],
  ['Ctrl + Enter', 'Rehearse'],
  ['Ctrl + Shift + Enter', 'Commit'],
  ['Alt + ← →', 'The previous or next record of its list'],
  ['Alt + ↑', 'Back to the list'],
]

const ROW = 'tr[tabindex="0"]'

/** Listens to the keys that belong to no page alone. */
export function useKeys({ showSheet, openPage }: { showSheet: () => void; openPage: (at: number) => void }): void {
  onMounted(() => window.addEventListener('keydown', listen))
  onBeforeUnmount(() => window.removeEventListener('keydown', listen))

  function listen(event: KeyboardEvent): void {
    if (event.altKey && /^[0-9]$/.test(event.key)) {
      openPage(event.key === '0' ? 9 : Number(event.key) - 1)
      event.preventDefault()
      return
    }
    if (event.altKey || event.ctrlKey || event.metaKey) return
    const at = document.activeElement as HTMLElement | null
    if (isWritten(at)) {
      if (event.key === 'Escape') at?.blur()
      return
    }
    if (doKey(event.key, at, showSheet)) event.preventDefault()
  }
}

/** @returns whether the key meant something. */
function doKey(key: string, at: HTMLElement | null, showSheet: () => void): boolean {
  switch (key) {
    case '?':
      showSheet()
      return true
    case '/':
      return focus('[data-test=filter], [data-test=search-tables] input')
    case 'e':
      return focus('.form input:not([disabled]):not([readonly]), .form textarea:not([readonly])')
    case 'ArrowDown':
    case 'ArrowUp':
      return at === document.body || at?.matches(ROW) ? moveRow(at, key === 'ArrowDown') : false
    default:
      return false
  }
}

function moveRow(at: HTMLElement | null, isDown: boolean): boolean {
  const rows = [...document.querySelectorAll<HTMLElement>(ROW)]
  const next = rows[at === null || !rows.includes(at) ? 0 : rows.indexOf(at) + (isDown ? 1 : -1)]
  next?.focus()
  return next !== undefined
}

function focus(selector: string): boolean {
  const found = document.querySelector<HTMLElement>(selector)
  found?.focus()
  return found !== null
}

/** Whether what is typed goes into it. */
function isWritten(element: HTMLElement | null): boolean {
  return element !== null && (element.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(element.tagName))
}
