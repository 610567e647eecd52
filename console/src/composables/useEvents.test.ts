import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import type { Event } from '../api/types'
import { useEvents } from './useEvents'

class Stream {
  static all: Stream[] = []
  onopen?: () => void
  onerror?: () => void
  onmessage?: (message: { data: string }) => void
  closed = false

  constructor() {
    Stream.all.push(this)
  }

  close() {
    this.closed = true
  }
}

beforeEach(() => vi.stubGlobal('EventSource', Stream))
afterEach(() => {
  vi.unstubAllGlobals()
  Stream.all = []
})

function listener() {
  const onEvent = vi.fn<(event: Event) => void>()
  const onBack = vi.fn()
  const component = defineComponent(() => {
    const { live } = useEvents(onEvent, onBack)
    return () => h('p', live.value ? 'live' : 'not live')
  })
  return { page: mount(component), onEvent, onBack }
}

test('all that listens shares one stream, which ends with the last', () => {
  const [one, two] = [listener(), listener()]
  expect(Stream.all).toHaveLength(1)
  Stream.all[0]?.onmessage?.({ data: '{"what":"office"}' })
  expect([one.onEvent.mock.calls.length, two.onEvent.mock.calls.length]).toEqual([1, 1])
  one.page.unmount()
  Stream.all[0]?.onmessage?.({ data: '{"what":"office"}' })
  expect([one.onEvent.mock.calls.length, two.onEvent.mock.calls.length, Stream.all[0]?.closed]).toEqual([1, 2, false])
  two.page.unmount()
  expect(Stream.all[0]?.closed).toBe(true)
})

test('what was missed while the stream was broken is asked for once it is back', async () => {
  const { page, onBack } = listener()
  const stream = Stream.all[0]
  stream?.onopen?.()
  expect(onBack).not.toHaveBeenCalled()
  stream?.onerror?.()
  await page.vm.$nextTick()
  expect(page.text()).toBe('not live')
  stream?.onopen?.()
  await page.vm.$nextTick()
  expect([onBack.mock.calls.length, page.text()]).toEqual([1, 'live'])
  page.unmount()
})
