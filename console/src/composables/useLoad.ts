/**
 * Something that is loaded: waiting, there, or failed with a problem. What was there stays while it is loaded again. Of several at once
 * the one that was begun last counts, whichever ends first.
 */
import { ref, shallowRef } from 'vue'
import { ProblemError } from '../api/client'
import type { Problem } from '../api/types'
import { useSession } from './useSession'

export function useLoad<T>(load: () => Promise<T>) {
  const data = shallowRef<T>()
  const problem = ref<Problem>()
  const loading = ref(false)
  const session = useSession()

  let latest = 0

  async function reload(): Promise<void> {
    const own = ++latest
    loading.value = true
    try {
      const found = await load()
      if (own !== latest) return
      data.value = found
      problem.value = undefined
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error
      if (error.is('not-signed-in')) session.over()
      if (own === latest) problem.value = error.problem
    } finally {
      if (own === latest) loading.value = false
    }
  }

  return { data, problem, loading, reload }
}
