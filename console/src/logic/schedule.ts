/** Schedules, as people read and set them. */
import type { AppliedSchedule, RateLimit, ScheduleSettings, SetBy, Template } from '../api/types'
import type { Line } from './edit'
import { exactSize, parseSize, size } from './format'

/** `every hour`, `every 90 minutes`, `every 2 days`. */
export function rhythmText(seconds: number): string {
  const units: [number, string][] = [
    [86_400, 'day'],
    [3_600, 'hour'],
    [60, 'minute'],
    [1, 'second'],
  ]
  const [length, unit] = units.find(([length]) => seconds % length === 0) ?? [1, 'second']
  const number = seconds / length
  return number === 1 ? `every ${unit}` : `every ${number} ${unit}s`
}

export const hoursText = (hours: string) => (hours === 'always' ? 'at any time' : `between ${hours.replace('-', ' and ')}`)
export const batteryText = (onBattery: boolean) => (onBattery ? 'also on battery' : 'not on battery')
export const meteredText = (onMetered: boolean) => (onMetered ? 'also over a metered connection' : 'not over a metered connection')
export const priorityText = (low: boolean) => (low ? 'low: gives way to other work' : 'normal')
export const drillText = (days: number) => (days === 7 ? 'every week' : rhythmText(days * 86_400))

export const proofText = (days: number) => rhythmText(days * 86_400)

/** What may be left out, and why that is rarely worth a backup. */
export const TEMPLATES: { template: Template; name: string; why: string }[] = [
  { template: 'caches', name: 'Caches', why: 'Programs make them again by themselves.' },
  { template: 'build-outputs', name: 'Build outputs', why: 'Compilers and package managers make them again.' },
  { template: 'trash', name: 'Trash', why: 'Somebody threw it away.' },
  { template: 'browser-caches', name: 'Browser caches', why: 'Browsers fetch them again; bookmarks, passwords and history are kept.' },
  { template: 'virtual-machines', name: 'Virtual machines', why: 'Their disks are large files that change as a whole.' },
  { template: 'downloads', name: 'Downloads', why: 'They can usually be downloaded again.' },
]

/** What backups leave out beside what a workstation excludes itself. */
export function exclusionsText(templates: Template[]): string {
  const names = TEMPLATES.filter(({ template }) => templates.includes(template)).map(({ name }) => name.toLowerCase())
  return names.length ? names.join(', ') : 'nothing more'
}

export function rateText(rate: RateLimit): string {
  if (rate.kind === 'unlimited') return 'no limit'
  const hours = rate.hours && rate.hours !== 'always' ? `, ${hoursText(rate.hours)}` : ''
  return `at most ${size(rate.bytes_per_second)}/s${hours}`
}

export function originText(by: SetBy): string {
  if (by.kind === 'nobody') return 'default'
  return by.kind === 'workstation' ? 'set for this workstation' : `set for ${by.kind} ${by.name}`
}

/** Who sets anything of a workstation's schedule, in a few words. */
export function sources({ set_by }: AppliedSchedule): string {
  const said = Object.values(set_by).flatMap((by) => (by.kind === 'nobody' ? [] : [by.kind === 'workstation' ? 'itself' : `${by.kind} ${by.name}`]))
  return said.length ? [...new Set(said)].join(', ') : 'default'
}

/** What applies to a workstation, line by line: what, its value, who set it. */
export function applied({ values, set_by }: AppliedSchedule): { what: string; value: string; by: string }[] {
  const line = (what: string, value: string, by: SetBy) => ({ what, value, by: originText(by) })
  return [
    line('Backups', rhythmText(values.rhythm_seconds), set_by.rhythm_seconds),
    line('Start', hoursText(values.hours), set_by.hours),
    line('Battery', batteryText(values.on_battery), set_by.on_battery),
    line('Metered connection', meteredText(values.on_metered), set_by.on_metered),
    line('Priority', priorityText(values.low_priority), set_by.low_priority),
    line('Sending', rateText(values.rate), set_by.rate),
    line('Drills', drillText(values.drill_days), set_by.drill_days),
    line('Proof of a secret', proofText(values.proof_days), set_by.proof_days),
    line('Left out', exclusionsText(values.exclude), set_by.exclude),
  ]
}

/** What is set, in a line; `nothing` where nothing is. */
export function settingsText(settings: ScheduleSettings): string {
  const said = settingsLines(settings).flatMap(([, text]) => (text ? [text] : []))
  return said.length ? said.join(', ') : 'nothing'
}

/** What is set, field by field; empty where nothing is. */
export function settingsLines(s: ScheduleSettings): Line[] {
  return [
    ['How often', s.rhythm_seconds == null ? '' : rhythmText(s.rhythm_seconds)],
    ['When backups may start', s.hours == null ? '' : hoursText(s.hours)],
    ['On battery', s.on_battery == null ? '' : batteryText(s.on_battery)],
    ['Over a metered connection', s.on_metered == null ? '' : meteredText(s.on_metered)],
    ['Priority', s.low_priority == null ? '' : s.low_priority ? 'low priority' : 'normal priority'],
    ['Sending', s.rate == null ? '' : rateText(s.rate)],
    ['Drills', s.drill_days == null ? '' : `drills ${drillText(s.drill_days)}`],
    ['Proof of a secret', s.proof_days == null ? '' : `proof of a secret ${proofText(s.proof_days)}`],
    ['Left out', s.exclude == null ? '' : `leaves out ${exclusionsText(s.exclude)}`],
  ]
}

/** A schedule as the fields of its form have it. Empty text leaves something to the next. */
export interface ScheduleFields {
  rhythm: string
  hours: string
  battery: '' | 'yes' | 'no'
  metered: '' | 'yes' | 'no'
  priority: '' | 'low' | 'normal'
  sending: '' | 'unlimited' | 'limited'
  rate: string
  rateHours: string
  drillDays: string
  proofDays: string
  /** Whether what is left out is set here. */
  leavingOut: '' | 'set'
  exclude: Template[]
}

/** Rhythms to choose from, in seconds. */
export const RHYTHMS = [900, 1_800, 3_600, 7_200, 14_400, 28_800, 86_400, 604_800]

export function toFields(s: ScheduleSettings): ScheduleFields {
  const limited = s.rate?.kind === 'limited' ? s.rate : undefined
  return {
    rhythm: s.rhythm_seconds == null ? '' : String(s.rhythm_seconds),
    hours: s.hours ?? '',
    battery: s.on_battery == null ? '' : s.on_battery ? 'yes' : 'no',
    metered: s.on_metered == null ? '' : s.on_metered ? 'yes' : 'no',
    priority: s.low_priority == null ? '' : s.low_priority ? 'low' : 'normal',
    sending: s.rate?.kind ?? '',
    rate: limited ? exactSize(limited.bytes_per_second) : '',
    rateHours: limited?.hours ?? 'always',
    drillDays: s.drill_days == null ? '' : String(s.drill_days),
    proofDays: s.proof_days == null ? '' : String(s.proof_days),
    leavingOut: s.exclude == null ? '' : 'set',
    exclude: s.exclude ?? [],
  }
}

const HOURS = /^(always|([01]\d|2[0-3]):[0-5]\d-([01]\d|2[0-3]):[0-5]\d)$/

/** What is wrong with the fields, by field; empty where nothing is. */
export function faults(f: ScheduleFields): Partial<Record<'hours' | 'rate' | 'rateHours' | 'drillDays' | 'proofDays', string>> {
  const found: ReturnType<typeof faults> = {}
  const hours = 'Write always, or for example 22:00-06:00.'
  if (f.hours && !HOURS.test(f.hours)) found.hours = hours
  if (f.sending === 'limited') {
    if ((parseSize(f.rate) ?? 0) < 128_000) found.rate = 'At least 128 kB, such as 5 MB.'
    if (!HOURS.test(f.rateHours)) found.rateHours = hours
  }
  const isWithin = (days: string, least: number, most: number) => Number.isInteger(Number(days)) && Number(days) >= least && Number(days) <= most
  if (f.drillDays && !isWithin(f.drillDays, 1, 365)) found.drillDays = '1 to 365 days.'
  if (f.proofDays && !isWithin(f.proofDays, 7, 730)) found.proofDays = '7 to 730 days.'
  return found
}

/** The fields as settings; what is wrong is for `faults` to say. */
export function fromFields(f: ScheduleFields): ScheduleSettings {
  const settings: ScheduleSettings = {}
  if (f.rhythm) settings.rhythm_seconds = Number(f.rhythm)
  if (f.hours) settings.hours = f.hours
  if (f.battery) settings.on_battery = f.battery === 'yes'
  if (f.metered) settings.on_metered = f.metered === 'yes'
  if (f.priority) settings.low_priority = f.priority === 'low'
  if (f.sending === 'unlimited') settings.rate = { kind: 'unlimited' }
  if (f.sending === 'limited') settings.rate = { kind: 'limited', bytes_per_second: parseSize(f.rate) ?? 0, hours: f.rateHours }
  if (f.drillDays) settings.drill_days = Number(f.drillDays)
  if (f.proofDays) settings.proof_days = Number(f.proofDays)
  if (f.leavingOut) settings.exclude = TEMPLATES.map(({ template }) => template).filter((template) => f.exclude.includes(template))
  return settings
}
