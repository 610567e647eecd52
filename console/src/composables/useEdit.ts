/**
 * A form on something that others may change meanwhile. It is sent with the version that it was filled from. If somebody else was
 * faster, what was typed stays, and how things are set now is there to be compared; if they changed nothing that this form sets,
 * it is sent again by itself.
 */
import { computed, shallowRef } from 'vue'
import { ProblemError } from '../api/client'
import { differences, type Line } from '../logic/edit'
import { useForm } from './useForm'

interface Edit<T> {
  /** How it is set now. */
  load: () => Promise<T>
  version: (of: T) => string
  /** Puts it into the fields. */
  fill: (from: T) => void
  /** What of it this form sets. */
  lines: (of: T) => Line[]
  /** What the fields say. */
  mine: () => Line[]
  save: (version: string) => Promise<unknown>
}

export function useEdit<T>({ load, version, fill, lines, mine, save }: Edit<T>) {
  const from = shallowRef<T>()
  const theirs = shallowRef<T>()
  const isTouched = () => from.value !== undefined && differences(lines(from.value), mine()).length > 0

  async function saveOver(basis: T): Promise<void> {
    try {
      await save(version(basis))
    } catch (error) {
      if (!(error instanceof ProblemError && error.is('changed-meanwhile'))) throw error
      const now = await load()
      if (version(now) !== version(basis) && differences(lines(now), lines(basis)).length === 0) return saveOver(now)
      theirs.value = now
      throw error
    }
  }
  const form = useForm(async () => {
    // What is wrong the next time may be something else.
    theirs.value = undefined
    if (from.value !== undefined) await saveOver(from.value)
  })

  /** Fills the form. */
  function begin(with_: T): void {
    fill(with_)
    from.value = with_
    theirs.value = undefined
    form.problem.value = undefined
  }
  /** Fills it anew with what was loaded again, unless something was typed. */
  function refresh(with_: T): void {
    if (!isTouched()) begin(with_)
  }
  async function saveMine(): Promise<void> {
    from.value = theirs.value
    await form.submit()
  }
  function takeTheirs(): void {
    if (theirs.value !== undefined) begin(theirs.value)
  }
  const differing = computed(() => (theirs.value === undefined ? undefined : differences(lines(theirs.value), mine())))
  return { problem: form.problem, busy: form.busy, submit: form.submit, differing, begin, refresh, saveMine, takeTheirs }
}
