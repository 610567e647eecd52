/** Who is signed in. */
import { readonly, ref } from 'vue'
import { answer, api, ProblemError } from '../api/client'
import type { Account } from '../api/types'

const account = ref<Account | null>(null)
let asked: Promise<void> | undefined

async function ask(): Promise<void> {
  try {
    account.value = await answer(api.GET('/api/v1/sessions/current'))
  } catch (error) {
    if (!(error instanceof ProblemError)) throw error
    account.value = null
  }
}

export function useSession() {
  return {
    account: readonly(account),
    /** Asks the service once whether a session goes on. */
    known: () => (asked ??= ask()),
    /** Asks the service again: something about the account changed. */
    refresh: ask,
    async signIn(login: string, password: string, code?: string) {
      account.value = (await answer(api.POST('/api/v1/sessions', { body: { login, password, code, carry: 'cookie', label: 'console' } }))).account
    },
    async signOut() {
      await answer(api.DELETE('/api/v1/sessions/current'))
      account.value = null
    },
    /** The service said that the session is over. */
    over() {
      account.value = null
    },
  }
}
