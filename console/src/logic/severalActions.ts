/** What can be done with several workstations at once: what it would change for each, and how it is done. */
import { answer, api, at, since } from '../api/client'
import type { Workstation } from '../api/types'
import { moment, size } from './format'

export interface Choice {
  /** A size in bytes, or none for no limit. */
  limit?: number
  /** Hours of a pause. */
  hours: number
}

export interface SeveralAction {
  key: string
  /** The button. */
  name: string
  /** How it is now, and how it is then. */
  now: (workstation: Workstation) => string
  then: (workstation: Workstation, choice: Choice, now: Date) => string
  /** Why it is not done for one, if so. */
  not?: (workstation: Workstation) => string | undefined
  act: (workstation: Workstation, choice: Choice, now: Date) => Promise<unknown>
}

const limitText = (bytes?: number | null) => (bytes == null ? 'no limit' : size(bytes))
const pauseEnd = ({ hours }: Choice, now: Date) => new Date(now.getTime() + hours * 3_600_000).toISOString()

async function setLimit(workstation: Workstation, { limit }: Choice): Promise<void> {
  const here = at({ id: workstation.store.id })
  const found = await answer(api.GET('/api/v1/stores/{id}/settings', here))
  await answer(api.PUT('/api/v1/stores/{id}/settings', { ...here, body: { ...found, limit: limit ?? null }, ...since(workstation.store.version) }))
}

export const ACTIONS: readonly SeveralAction[] = [
  {
    key: 'back_up',
    name: 'Back up now',
    now: (w) => (w.asked ? `asked by ${w.asked.by}` : 'by schedule'),
    then: () => 'as soon as the machine answers',
    not: (w) => (w.agent ? undefined : 'no agent has reported'),
    act: (w) => answer(api.PUT('/api/v1/workstations/{id}/asked-backup', at({ id: w.id }))),
  },
  {
    key: 'pause',
    name: 'Pause backups',
    now: (w) => (w.paused ? `paused until ${moment(w.paused.until)}` : 'by schedule'),
    then: (_, choice, now) => `paused until ${moment(pauseEnd(choice, now))}`,
    act: (w, choice, now) => answer(api.PUT('/api/v1/workstations/{id}/pause', { ...at({ id: w.id }), body: { until: pauseEnd(choice, now) } })),
  },
  {
    key: 'resume',
    name: 'Resume backups',
    now: (w) => (w.paused ? `paused until ${moment(w.paused.until)}` : 'by schedule'),
    then: () => 'by schedule',
    not: (w) => (w.paused ? undefined : 'it is not paused'),
    act: (w) => answer(api.DELETE('/api/v1/workstations/{id}/pause', at({ id: w.id }))),
  },
  {
    key: 'limit',
    name: 'Set limit',
    now: (w) => limitText(w.store.limit),
    then: (_, { limit }) => limitText(limit),
    act: setLimit,
  },
  {
    key: 'scrub',
    name: 'Scrub image stores',
    now: (w) => (w.store.scrubbed ? `last ${moment(w.store.scrubbed)}` : 'never'),
    then: () => 'every byte is read, in turn with other jobs',
    act: (w) => answer(api.POST('/api/v1/stores/{id}/scrub', at({ id: w.store.id }))),
  },
]

/** A workstation with what an action changes for it. */
export function preview(action: SeveralAction, workstations: Workstation[], choice: Choice, now: Date) {
  return workstations.map((workstation) => ({
    workstation,
    now: action.now(workstation),
    then: action.then(workstation, choice, now),
    not: action.not?.(workstation),
  }))
}
