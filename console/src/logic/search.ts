/** What a search found, and where it leads. */
import type { RouteLocationRaw } from 'vue-router'
import type { Hit, HitKind, SearchResult } from '../api/types'

const TITLES: Record<HitKind, string> = {
  workstation: 'Workstations',
  account: 'People',
  group: 'Groups',
  destination: 'Destinations',
  code: 'Enrolment codes',
  audit_entry: 'Audit log',
}

/** Where something that was found is shown. */
export function placeOf(hit: Hit): RouteLocationRaw {
  switch (hit.kind) {
    case 'workstation':
      return { name: 'workstation', params: { id: hit.id } }
    case 'account':
      return { name: 'people', query: { account: hit.name } }
    case 'group':
      return { name: 'people', hash: '#groups' }
    case 'destination':
      return { name: 'storage', hash: `#destination-${hit.id}` }
    case 'code':
      return { name: 'codes' }
    case 'audit_entry':
      return { name: 'reports', query: { text: hit.name } }
  }
}

/** Where all of a kind are that have the text, as far as there is such a list. */
export function allOf(kind: HitKind, text: string): RouteLocationRaw | undefined {
  if (kind === 'workstation') return { name: 'workstations', query: { text } }
  if (kind === 'audit_entry') return { name: 'reports', query: { text } }
  return undefined
}

/** A line of what was found: something, or all of its kind. */
export interface Line {
  key: string
  title?: string
  name: string
  detail: string
  to: RouteLocationRaw
}

/** What was found as lines one below the other; the first of a kind has its title. */
export function linesOf(result: SearchResult, text: string): Line[] {
  const kinds = [...new Set(result.hits.map((hit) => hit.kind))]
  return kinds.flatMap((kind) => {
    const hits = result.hits.filter((hit) => hit.kind === kind)
    const lines: Line[] = hits.map((hit, i) => ({ key: `${kind} ${hit.id}`, title: i === 0 ? TITLES[kind] : undefined, name: hit.name, detail: hit.detail, to: placeOf(hit) }))
    const all = result.more.includes(kind) ? allOf(kind, text) : undefined
    if (all) lines.push({ key: `all ${kind}`, name: 'Show all of them', detail: '', to: all })
    return lines
  })
}
