import { computed, ref, watch } from 'vue'

/** What a first visit does, in order; each is noticed where it is done. */
export const STEPS = [
  { id: 'table', route: 'tables', says: 'Choose a table.' },
  {
    id: 'mapping',
    route: 'tables',
    says: 'Look at its mapping: how its rows become records. Where it has none, derive one and publish it.',
  },
  { id: 'rehearse', route: 'records', says: 'Open one of its records, change a field, and press Rehearse.' },
  { id: 'commit', route: null, says: 'Read what would differ, then press Commit.' },
  { id: 'entry', route: 'book', says: 'Open the entry that it left in the book.' },
  { id: 'reverse', route: null, says: 'Press Put it back, read what that would do, and commit it.' },
] as const

export type GuideStep = (typeof STEPS)[number]['id']

const KEPT = 'ledgerman-guide'
const kept = sessionStorage.getItem(KEPT)
/** How many steps are done; null while nobody is guided. */
const done = ref(kept === null ? null : Number(kept))
watch(done, (now) => (now === null ? sessionStorage.removeItem(KEPT) : sessionStorage.setItem(KEPT, String(now))))

/** A guided first visit: it follows what somebody does, and says what comes next. */
export function useGuide() {
  const step = computed(() => (done.value === null ? undefined : STEPS[done.value]))
  const isOver = computed(() => done.value === STEPS.length)

  /** Told where a step is done; one that somebody does ahead is done with those before it. */
  function did(id: GuideStep): void {
    const at = STEPS.findIndex((each) => each.id === id)
    if (done.value !== null && at >= done.value) done.value = at + 1
  }

  return {
    done,
    step,
    isOver,
    did,
    begin: () => (done.value = 0),
    end: () => (done.value = null),
  }
}
