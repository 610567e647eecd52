import { expect, test } from 'vitest'
import type { ScheduleSettings } from '../api/types'
import { applied, sources, faults, fromFields, rhythmText, settingsText, toFields } from './schedule'

const all: ScheduleSettings = {
  rhythm_seconds: 14_400,
  hours: '22:00-06:00',
  on_battery: true,
  on_metered: false,
  low_priority: false,
  rate: { kind: 'limited', bytes_per_second: 5_000_000, hours: '08:00-18:00' },
  drill_days: 30,
  proof_days: 180,
  exclude: ['caches', 'downloads'],
}

test('a schedule goes through the form unchanged, and nothing set stays nothing', () => {
  for (const settings of [all, {}, { rate: { kind: 'unlimited' as const } }, { on_battery: false }, { exclude: [] }, { rhythm_seconds: 5_400 }]) {
    expect(fromFields(toFields(settings))).toEqual(settings)
    expect(faults(toFields(settings))).toEqual({})
  }
})

test('a schedule reads as a line', () => {
  expect(settingsText({})).toBe('nothing')
  expect(settingsText(all)).toBe(
    'every 4 hours, between 22:00 and 06:00, also on battery, not over a metered connection, normal priority, at most 5.00 MB/s, between 08:00 and 18:00, drills every 30 days, proof of a secret every 180 days, leaves out caches, downloads',
  )
  expect(settingsText({ exclude: [] })).toBe('leaves out nothing more')
  expect([900, 3_600, 5_400, 86_400].map(rhythmText)).toEqual(['every 15 minutes', 'every hour', 'every 90 minutes', 'every day'])
})

test('what the service would not take is said beside its field', () => {
  const wrong = { ...toFields(all), hours: '25:00-06:00', rate: '5', rateHours: '', drillDays: '0', proofDays: '6' }
  expect(Object.keys(faults(wrong)).sort()).toEqual(['drillDays', 'hours', 'proofDays', 'rate', 'rateHours'])
})

test('each line of what applies says who set it', () => {
  const nobody = { kind: 'nobody' as const }
  const values = { rhythm_seconds: 3_600, hours: 'always', on_battery: true, on_metered: false, low_priority: true, rate: { kind: 'unlimited' as const }, drill_days: 7, proof_days: 90, exclude: [] }
  const set_by = { rhythm_seconds: nobody, hours: nobody, on_battery: { kind: 'group' as const, name: 'Field work' }, on_metered: nobody, low_priority: nobody, rate: nobody, drill_days: nobody, proof_days: nobody, exclude: nobody }
  expect(applied({ values, set_by })[2]).toEqual({ what: 'Battery', value: 'also on battery', by: 'set for group Field work' })
  expect(sources({ values, set_by })).toBe('group Field work')
  expect(sources({ values, set_by: { ...set_by, on_battery: nobody } })).toBe('default')
})
