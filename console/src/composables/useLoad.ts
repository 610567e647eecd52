/** Something that is loaded: waiting, there, or failed with a problem. What was there stays while it is loaded again. */
import { ref, shallowRef } from 'vue'
import { ProblemError } from '../api/client'
import type { Problem } from '../api/types'
import { useSession } from './useSession'

export function useLoad<T>(load: () => Promise<T>) {
  const data = shallowRef<T>()
  const problem = ref<Problem>()
  const loading = ref(false)
  const session = useSession()

  async function reload(): Promise<void> {
    loading.value = true
    try {
      data.value = await load()
      problem.value = undefined
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error
      if (error.is('not-signed-in')) session.over()
      problem.value = error.problem
    } finally {
      loading.value = false
    }
  }

  return { data, problem, loading, reload }
}
