/** Entries of a list that somebody chose, by their ids; they stay chosen on other pages of it. */
import { computed, shallowRef } from 'vue'

export function useChosen<T extends { id: string }>(shown: () => T[]) {
  const chosen = shallowRef(new Map<string, T>())
  const change = (act: (of: Map<string, T>) => void) => {
    const changed = new Map(chosen.value)
    act(changed)
    chosen.value = changed
  }
  return {
    chosen: computed(() => [...chosen.value.values()]),
    has: (id: string) => chosen.value.has(id),
    toggle: (entry: T) => change((of) => of.delete(entry.id) || of.set(entry.id, entry)),
    /** Whether all that is shown is chosen, some of it, or none. */
    all: computed(() => {
      const number = shown().filter(({ id }) => chosen.value.has(id)).length
      return number === 0 ? 'none' : number === shown().length ? 'all' : 'some'
    }),
    /** Chooses all that is shown, or none of it if all is chosen. */
    toggleAll() {
      const isAll = shown().every(({ id }) => chosen.value.has(id))
      change((of) => shown().forEach((entry) => (isAll ? of.delete(entry.id) : of.set(entry.id, entry))))
    },
    clear: () => (chosen.value = new Map()),
  }
}
