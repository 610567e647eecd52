/** Which restores a report is about. */

/** The days back from now that people ask for. */
export const PERIODS = [
  { value: '', text: 'Last 30 days' },
  { value: '7', text: 'Last 7 days' },
  { value: '90', text: 'Last 90 days' },
  { value: 'all', text: 'All there are' },
]

/** From when on a period goes; none for all. A period that is not known is the usual one. */
export function sinceOf(period: string, now: Date): string | undefined {
  if (period === 'all') return undefined
  const days = PERIODS.some(({ value }) => value && value === period) ? Number(period) : 30
  return new Date(now.getTime() - days * 86_400_000).toISOString()
}

export const PURPOSES = [
  { value: '', text: 'Anything' },
  { value: 'restore', text: 'Restores' },
  { value: 'drill', text: 'Drills' },
  { value: 'export', text: 'Exports' },
  { value: 'mount', text: 'Mounts' },
  { value: 'attach', text: 'Attached disks' },
  { value: 'browse', text: 'Browsing' },
]
