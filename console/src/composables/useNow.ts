/** The service's time, moving on by itself so that ages stay true. */
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'

const EVERY_MS = 1000

export function useNow() {
  const offset = ref(0)
  const tick = ref(Date.now())
  let timer: ReturnType<typeof setInterval> | undefined
  onMounted(() => (timer = setInterval(() => (tick.value = Date.now()), EVERY_MS)))
  onBeforeUnmount(() => clearInterval(timer))
  return {
    now: computed(() => new Date(tick.value + offset.value)),
    /** The clock of this computer may be off; the service's counts. */
    setBy: (service: string) => (offset.value = new Date(service).getTime() - Date.now()),
  }
}
