/** Numbers and times as people read them: sizes with their unit, ages in the largest unit that says enough. */
import { ref } from 'vue'

const DECIMAL_NAMES = ['B', 'kB', 'MB', 'GB', 'TB', 'PB']
const BINARY_NAMES = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB']

/** Which units sizes are shown in; every answer of the service says which the office chose. */
export const units = ref<'decimal' | 'binary'>('decimal')

export function size(bytes: number): string {
  const [base, names] = units.value === 'binary' ? [1024, BINARY_NAMES] : [1000, DECIMAL_NAMES]
  let value = bytes
  let unit = 0
  while (value >= base - 0.5 && unit < names.length - 1) {
    value /= base
    unit += 1
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2
  return `${value.toFixed(digits)} ${names[unit]}`
}

/** A size to the byte, as `parseSize` reads it back: in the largest unit of which it is a whole number. */
export function exactSize(bytes: number): string {
  // Whole numbers of one kind of units need not be whole numbers of the other.
  const [base, names] = bytes % 1024 === 0 && bytes % 1000 !== 0 ? [1024, BINARY_NAMES] : [1000, DECIMAL_NAMES]
  let value = bytes
  let unit = 0
  while (value !== 0 && value % base === 0 && unit < names.length - 1) {
    value /= base
    unit += 1
  }
  return `${value} ${names[unit]}`
}

export function count(number: number): string {
  return number.toLocaleString('en')
}

/** What a point of this kind counts. */
export const noun = (kind: 'files' | 'disk') => (kind === 'disk' ? 'disk' : 'file')

/** A number with its noun: `1 file`, `2 files`. */
export function many(number: number, noun: string): string {
  return `${count(number)} ${noun}${number === 1 ? '' : 's'}`
}

export function age(then: string, now: Date): string {
  const seconds = (now.getTime() - new Date(then).getTime()) / 1000
  return seconds < 60 ? 'just now' : `${span(seconds)} ago`
}

/** How long something lasts, in the largest unit that says enough. */
export function span(seconds: number): string {
  if (seconds < 7200) return `${Math.max(Math.floor(seconds / 60), 0)} min`
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h`
  return `${Math.floor(seconds / 86_400)} days`
}

export function moment(at: string): string {
  const date = new Date(at)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())} ${two(date.getHours())}:${two(date.getMinutes())}`
}

export function duration(seconds: number): string {
  if (seconds < 0.1) return 'under 0.1 s'
  if (seconds < 10) return `${seconds.toFixed(1)} s`
  if (seconds < 120) return `${Math.floor(seconds)} s`
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`
  return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`
}

export function words(state: string): string {
  return state.replaceAll('_', ' ')
}

const DECIMAL: Record<string, number> = { B: 1, KB: 1e3, MB: 1e6, GB: 1e9, TB: 1e12, PB: 1e15 }
const BINARY: Record<string, number> = { KIB: 2 ** 10, MIB: 2 ** 20, GIB: 2 ** 30, TIB: 2 ** 40, PIB: 2 ** 50 }

/** Reads a size; the unit must be named. `undefined` when it is not one. */
export function parseSize(text: string): number | undefined {
  const found = /^\s*(\d+(?:\.\d+)?)\s*([a-z]+)\s*$/i.exec(text)
  const unit = found?.[2]?.toUpperCase() ?? ''
  const factor = DECIMAL[unit] ?? BINARY[unit]
  const bytes = factor === undefined ? NaN : Number(found?.[1]) * factor
  return Number.isSafeInteger(bytes) ? bytes : undefined
}
