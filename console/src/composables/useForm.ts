/** A form that is sent: busy while it is, and with what was wrong. What was typed stays when it is refused. */
import { ref } from 'vue'
import { ProblemError } from '../api/client'
import type { Problem } from '../api/types'

export function useForm(send: () => Promise<void>) {
  const problem = ref<Problem>()
  const busy = ref(false)

  async function submit(): Promise<void> {
    busy.value = true
    problem.value = undefined
    try {
      await send()
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error
      problem.value = error.problem
    } finally {
      busy.value = false
    }
  }

  return { problem, busy, submit }
}
