/** Advice in sentences, asked for while something is typed; it is no condition for saving. */
import { onMounted, ref, watch } from 'vue'
import { ProblemError } from '../api/client'

const PAUSE_MS = 250

/** `typed` is what the advice depends on; `ask` returns nothing while that is not yet something to ask about. */
export function useAdvice(typed: () => unknown, ask: () => Promise<{ says: string[] }> | undefined) {
  const says = ref<string[]>([])
  let timer: ReturnType<typeof setTimeout> | undefined
  let asked = 0

  async function say(): Promise<void> {
    const answer = ask()
    if (!answer) return
    asked += 1
    const mine = asked
    try {
      const advice = await answer
      // An answer that was overtaken says nothing any more.
      if (mine === asked) says.value = advice.says
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error
      if (mine === asked) says.value = []
    }
  }

  watch(typed, () => {
    clearTimeout(timer)
    timer = setTimeout(() => void say(), PAUSE_MS)
  })
  onMounted(say)
  return says
}
