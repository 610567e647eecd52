/** What became of an order to restore something, in words. */
import type { RestoreOrder } from '../api/types'
import { moment } from './format'

const WORDS: Record<RestoreOrder['state'], string> = {
  waiting: 'waits for the workstation',
  asking: 'waits until somebody at the workstation accepts it',
  underway: 'is being restored',
  done: 'is restored',
  declined: 'was declined',
  failed: 'could not be restored',
  withdrawn: 'was withdrawn',
  expired: 'was not begun in time',
}

export const isOpen = (order: Pick<RestoreOrder, 'state'>) => order.state === 'waiting' || order.state === 'asking' || order.state === 'underway'

/** The state, and until when it may still change. */
export function orderWords(order: Pick<RestoreOrder, 'state' | 'expires'>): string {
  const until = order.state === 'waiting' || order.state === 'asking' ? `, until ${moment(order.expires)}` : ''
  return WORDS[order.state] + until
}

/** Whether whoever gave it has to do something about it. What is done and has a reason was not restored exactly. */
export const isBad = (order: Pick<RestoreOrder, 'state' | 'reason'>) => (order.state === 'done' && !!order.reason) || order.state === 'declined' || order.state === 'failed' || order.state === 'expired'
