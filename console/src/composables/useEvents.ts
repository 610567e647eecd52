/** Live changes. The browser connects again by itself; `onBack` is called then, for what was missed. */
import { onBeforeUnmount, onMounted, readonly, ref } from 'vue'
import type { Event } from '../api/types'

export function useEvents(onEvent: (event: Event) => void, onBack: () => void) {
  const live = ref(false)
  let source: EventSource | undefined
  let wasOpen = false

  onMounted(() => {
    source = new EventSource('/api/v1/events')
    source.onopen = () => {
      live.value = true
      if (wasOpen) onBack()
      wasOpen = true
    }
    source.onerror = () => (live.value = false)
    source.onmessage = (message: MessageEvent<string>) => onEvent(JSON.parse(message.data) as Event)
  })
  onBeforeUnmount(() => source?.close())

  return { live: readonly(live) }
}
