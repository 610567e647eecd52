/** Something that is done a moment after the last of several changes, such as the letters of a word. */
import { onBeforeUnmount } from 'vue'

const MOMENT_MS = 150

export function useLater(act: () => void) {
  let timer: ReturnType<typeof setTimeout> | undefined
  const stop = () => clearTimeout(timer)
  onBeforeUnmount(stop)
  return {
    later() {
      stop()
      timer = setTimeout(act, MOMENT_MS)
    },
    stop,
  }
}
