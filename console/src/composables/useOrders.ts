/** The orders of a workstation, live. */
import { computed, onMounted } from 'vue'
import { answer, api, at } from '../api/client'
import type { RestoreOrder } from '../api/types'
import { useEvents } from './useEvents'
import { useLoad } from './useLoad'

/** Orders that are shown, the latest. */
const MOST = 10

export function useOrders(workstation: string) {
  const { data, problem, reload } = useLoad(() =>
    answer(api.GET('/api/v1/workstations/{id}/orders', { params: { path: { id: workstation }, query: { most: MOST } } })),
  )
  const withdraw = (order: RestoreOrder) => answer(api.POST('/api/v1/orders/{id}/withdrawal', at({ id: order.id })))
  useEvents(
    (event) => {
      if (event.what === 'orders' && event.workstation === workstation) void reload()
    },
    () => void reload(),
  )
  onMounted(reload)
  return { orders: computed(() => data.value?.items ?? []), hasMore: computed(() => !!data.value?.next), problem, reload, withdraw }
}
