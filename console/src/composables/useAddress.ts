/** What a page shows, kept in its address: it can be passed on, and the browser goes back to what was shown before. */
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

export function useAddress<Name extends string>(names: readonly Name[]) {
  const route = useRoute()
  const router = useRouter()
  const shown = computed(() => {
    const one = (name: Name) => [route.query[name]].flat()[0] ?? ''
    return Object.fromEntries(names.map((name) => [name, one(name)])) as Record<Name, string>
  })

  /** Shows something else; what is empty is not in the address. Letters of a word are no steps to go back by. */
  function show(changes: Partial<Record<Name, string>>, isStep = true): void {
    const query = Object.fromEntries(Object.entries({ ...route.query, ...changes }).filter(([, value]) => value))
    void (isStep ? router.push({ query }) : router.replace({ query }))
  }

  return { shown, show }
}
