/** What a workstation's agent reported, in words. */
import type { AgentState, Workstation } from '../api/types'
import { span, words } from './format'

/** An agent reports every 30 minutes: one that has not for so long is off, or away. */
const SILENT_SECONDS = 2 * 3600

/** What says when a workstation is backed up next. */
type Standing = Pick<Workstation, 'agent' | 'queued_at'>

/** Whether a backup is due and something is in its way. */
export const late = (agent?: AgentState | null) => !!agent?.delay

/** When something that was asked of the agent happens. */
export function waits(agent: AgentState | null | undefined, now: Date): string {
  if (!agent) return 'No agent has reported: nothing starts there until one is installed.'
  const silent = (now.getTime() - new Date(agent.seen).getTime()) / 1000 > SILENT_SECONDS
  return silent ? 'It starts when the machine is back.' : 'It starts within seconds.'
}

/** In how long the next backup is due, or for how long it has been late and why. */
export function nextRun(workstation: Standing, now: Date): string {
  const { agent, queued_at } = workstation
  if (!agent) return 'no agent'
  if (agent.delay?.reason === 'queued' && queued_at != null) return `at place ${queued_at} of the queue`
  const since = (at: string) => (now.getTime() - new Date(at).getTime()) / 1000
  if (agent.delay) return `late: ${words(agent.delay.reason)} for ${span(since(agent.delay.since))}`
  if (since(agent.seen) > SILENT_SECONDS) return `not seen for ${span(since(agent.seen))}`
  const left = agent.due ? -since(agent.due) : 0
  if (left <= 0) return 'due or in progress'
  return left < 60 ? 'within a minute' : `in ${span(left)}`
}

/** The same as a sentence. */
export function nextRunSentence(workstation: Standing, now: Date): string {
  const text = nextRun(workstation, now)
  return late(workstation.agent) ? `${text.charAt(0).toUpperCase()}${text.slice(1)}.` : `Next backup: ${text}.`
}
