/** Retention, as people read it. */
import type { Retention, Rule } from '../api/types'

/** What a new rule begins with. */
export const USUAL_RULE: Rule = { hours: 72, days: 60, weeks: 52, months: 60, years: 0, at_least: 5 }

export const RULE_STEPS: { key: keyof Rule; label: string; means: string }[] = [
  { key: 'hours', label: 'Hours', means: 'all points' },
  { key: 'days', label: 'Days', means: 'the last of each' },
  { key: 'weeks', label: 'Weeks', means: 'the last of each' },
  { key: 'months', label: 'Months', means: 'the last of each' },
  { key: 'years', label: 'Years', means: 'the last of each' },
  { key: 'at_least', label: 'At least', means: 'points stay' },
]

/** `72 hours, 30 days, at least 3`, the same text as everywhere else. */
export function retentionText(retention: Retention): string {
  if (retention.kind === 'everything') return 'everything'
  const steps = (['hours', 'days', 'weeks', 'months', 'years'] as const).flatMap((step) => {
    const n = retention[step] ?? 0
    return n > 0 ? [`${n} ${n === 1 ? step.slice(0, -1) : step}`] : []
  })
  return [...steps, `at least ${retention.at_least ?? 0}`].join(', ')
}
