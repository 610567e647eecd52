/** Points on a calendar: months of weeks, days with the points that were committed on them. */
import type { Point } from '../api/types'

/** A day in this computer's time, `2026-11-28`. */
export type Day = string

const two = (number: number) => String(number).padStart(2, '0')

export function dayOf(at: string | Date): Day {
  const date = new Date(at)
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())}`
}

export const timeOf = (at: string): string => {
  const date = new Date(at)
  return `${two(date.getHours())}:${two(date.getMinutes())}`
}

/** `2026-11`. */
export type Month = string

export const monthOf = (day: Day): Month => day.slice(0, 7)

export function monthAfter(month: Month, by: number): Month {
  const [year = 0, number = 1] = month.split('-').map(Number)
  const date = new Date(year, number - 1 + by, 1)
  return monthOf(dayOf(date))
}

/** Monday first; days of other months are `undefined`. */
export function weeksOf(month: Month): (Day | undefined)[][] {
  const [year = 0, number = 1] = month.split('-').map(Number)
  const first = new Date(year, number - 1, 1)
  const days = new Date(year, number, 0).getDate()
  const before = (first.getDay() + 6) % 7
  const cells = Array.from({ length: Math.ceil((before + days) / 7) * 7 }, (_, i) => {
    const day = i - before + 1
    return day >= 1 && day <= days ? `${month}-${two(day)}` : undefined
  })
  return Array.from({ length: cells.length / 7 }, (_, week) => cells.slice(7 * week, 7 * week + 7))
}

/** The points of each day, the latest first. */
export function byDay(points: Point[]): Map<Day, Point[]> {
  const days = new Map<Day, Point[]>()
  for (const point of points) {
    const day = dayOf(point.committed)
    days.set(day, [...(days.get(day) ?? []), point])
  }
  return days
}

export const monthText = (month: Month) => new Date(`${month}-15T12:00`).toLocaleString('en', { month: 'long', year: 'numeric' })

export const dayText = (day: Day) => new Date(`${day}T12:00`).toLocaleString('en-GB', { weekday: 'long', day: 'numeric', month: 'long', year: 'numeric' })
