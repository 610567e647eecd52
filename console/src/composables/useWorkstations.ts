/** The list of workstations, as its address says: found and sorted by the service. */
import { computed, watch } from 'vue'
import { answer, api } from '../api/client'
import type { Workstation, WorkstationOrder, WorkstationState } from '../api/types'
import { withRun } from '../logic/live'
import { useAddress } from './useAddress'
import { useEvents } from './useEvents'
import { useLoad } from './useLoad'
import { useNow } from './useNow'

const PARTS = ['text', 'state', 'destination', 'group', 'sort', 'descending', 'after'] as const
const PAGE = 100

export function useWorkstations() {
  const { shown, show } = useAddress(PARTS)
  const query = computed(() => {
    const { text, state, destination, group, sort, descending } = shown.value
    return {
      text: text || undefined,
      state: (state || undefined) as WorkstationState | undefined,
      destination: destination || undefined,
      group: group || undefined,
      sort: (sort || undefined) as WorkstationOrder | undefined,
      descending: descending ? true : undefined,
    }
  })
  const page = (after: string | undefined, most: number) => answer(api.GET('/api/v1/workstations', { params: { query: { ...query.value, after, most } } }))
  const { data, problem, loading, reload } = useLoad(async () => {
    const [found, service] = await Promise.all([page(shown.value.after || undefined, PAGE), answer(api.GET('/api/v1/service'))])
    return { found, now: service.now }
  })
  const { now, setBy } = useNow()
  const { live } = useEvents((event) => {
    if (event.what === 'run' && data.value) {
      const items = data.value.found.items.map((w) => withRun(w, event.run))
      data.value = { ...data.value, found: { ...data.value.found, items } }
    } else if (event.what !== 'restore' && event.what !== 'job') void reload()
  }, reload)

  /** All that were found, on whatever page. */
  async function all(): Promise<Workstation[]> {
    const items: Workstation[] = []
    let after: string | undefined
    do {
      const found = await page(after, 500)
      items.push(...found.items)
      after = found.next ?? undefined
    } while (after !== undefined)
    return items
  }

  watch(data, (loaded) => loaded && setBy(loaded.now))
  watch(shown, () => void reload(), { immediate: true })
  return { shown, show, found: computed(() => data.value?.found), problem, loading, reload, now, live, all }
}
