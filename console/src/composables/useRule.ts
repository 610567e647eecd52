/** Holds what is typed against the service's own rule while it is typed; the service decides again when it is sent. */
import { onScopeDispose, ref, watch } from 'vue'
import { answer, api, ProblemError } from '../api/client'
import type { FieldRule } from '../api/types'

const PAUSE_MS = 250

/** `typed` is the text; empty text is not asked about. `untilNow` is what stands there so far: its own name is not taken. */
export function useRule(rule: () => FieldRule, typed: () => string, untilNow: () => string | undefined) {
  const complaint = ref('')
  let timer: ReturnType<typeof setTimeout> | undefined
  let asked = 0

  async function ask(): Promise<void> {
    asked += 1
    const mine = asked
    try {
      const ruling = await answer(api.POST('/api/v1/rules', { body: { rule: rule(), text: typed(), until_now: untilNow() } }))
      // An answer that was overtaken says nothing any more.
      if (mine === asked) complaint.value = ruling.complaint ?? ''
    } catch (error) {
      // Without an answer nothing is held against what was typed.
      if (!(error instanceof ProblemError)) throw error
    }
  }

  watch(typed, (text) => {
    clearTimeout(timer)
    if (text.trim() !== '' && text !== untilNow()) {
      timer = setTimeout(() => void ask(), PAUSE_MS)
    } else {
      asked += 1
      complaint.value = ''
    }
  })
  onScopeDispose(() => clearTimeout(timer))
  return complaint
}
