/**
 * Live changes. All that listens on a page shares one stream: browsers and the service allow only some at once. The browser connects
 * again by itself; `onBack` is called then, for what was missed.
 */
import { onBeforeUnmount, onMounted, readonly, ref } from 'vue'
import type { Event } from '../api/types'

interface Listener {
  onEvent: (event: Event) => void
  onBack: () => void
}

const live = ref(false)
const listeners = new Set<Listener>()
let source: EventSource | undefined

function open(): EventSource {
  const opened = new EventSource('/api/v1/events')
  let wasOpen = false
  opened.onopen = () => {
    live.value = true
    if (wasOpen) listeners.forEach((listener) => listener.onBack())
    wasOpen = true
  }
  opened.onerror = () => (live.value = false)
  opened.onmessage = (message: MessageEvent<string>) => {
    const event = JSON.parse(message.data) as Event
    listeners.forEach((listener) => listener.onEvent(event))
  }
  return opened
}

function close(): void {
  source?.close()
  source = undefined
  live.value = false
}

export function useEvents(onEvent: (event: Event) => void, onBack: () => void) {
  const listener = { onEvent, onBack }
  onMounted(() => {
    listeners.add(listener)
    source ??= open()
  })
  onBeforeUnmount(() => {
    listeners.delete(listener)
    if (listeners.size === 0) close()
  })
  return { live: readonly(live) }
}
