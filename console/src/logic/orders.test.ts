import { expect, it } from 'vitest'
import { isBad, isOpen, orderWords } from './orders'

const order = (state: Parameters<typeof isOpen>[0]['state']) => ({ state, expires: '2026-12-08T09:00:00Z' })

it('says until when an order waits, and of one that ended what became of it', () => {
  expect(orderWords(order('waiting'))).toMatch(/^waits for the workstation, until /)
  expect(orderWords(order('asking'))).toMatch(/accepts it, until /)
  expect(orderWords(order('underway'))).toBe('is being restored')
  expect(orderWords(order('declined'))).toBe('was declined')
})

it('tells what is open from what ended, and what ended well from what did not', () => {
  const all = (['waiting', 'asking', 'underway', 'done', 'declined', 'failed', 'withdrawn', 'expired'] as const).map(order)
  expect(all.filter(isOpen).map((one) => one.state)).toEqual(['waiting', 'asking', 'underway'])
  expect(isBad({ state: 'done', reason: 'Not restored exactly: 2.' })).toBe(true)
  expect(all.filter(isBad).map((one) => one.state)).toEqual(['declined', 'failed', 'expired'])
})
