/** A workstation with its points and what happened to it, live. */
import { watch } from 'vue'
import { answer, api, at } from '../api/client'
import type { Event, LastDiagnosis, Page, Point, Restore, Run, Wait, Workstation } from '../api/types'
import { withEntry, withRun } from '../logic/live'
import { useEvents } from './useEvents'
import { useLoad } from './useLoad'
import { useNow } from './useNow'

const PAGE = 25

export interface Shown {
  workstation: Workstation
  points: Page<Point>
  runs: Page<Run>
  restores: Page<Restore>
  waits: Page<Wait>
  diagnosis: LastDiagnosis
  now: string
}

async function load(id: string): Promise<Shown> {
  const path = { id }
  const latest = { params: { path, query: { most: PAGE } } }
  const [workstation, points, runs, restores, waits, diagnosis, service] = await Promise.all([
    answer(api.GET('/api/v1/workstations/{id}', at(path))),
    answer(api.GET('/api/v1/workstations/{id}/points', latest)),
    answer(api.GET('/api/v1/workstations/{id}/runs', latest)),
    answer(api.GET('/api/v1/workstations/{id}/restores', latest)),
    answer(api.GET('/api/v1/workstations/{id}/waits', latest)),
    answer(api.GET('/api/v1/workstations/{id}/diagnosis', at(path))),
    answer(api.GET('/api/v1/service')),
  ])
  return { workstation, points, runs, restores, waits, diagnosis, now: service.now }
}

/** What is shown after something happened; nothing where it has to be loaded again. */
function after(shown: Shown, event: Event): Shown | undefined {
  const { id } = shown.workstation
  if (event.what === 'run' && event.run.workstation === id) {
    const runs = { ...shown.runs, items: withEntry(shown.runs.items, event.run) }
    return { ...shown, runs, workstation: withRun(shown.workstation, event.run) }
  }
  if (event.what === 'restore' && event.restore.workstation === id) {
    return { ...shown, restores: { ...shown.restores, items: withEntry(shown.restores.items, event.restore) } }
  }
  return event.what === 'schedules' || (event.what === 'workstation' && event.workstation === id) ? undefined : shown
}

export function useWorkstation(id: () => string) {
  const { data, problem, loading, reload } = useLoad(() => load(id()))
  const { now, setBy } = useNow()
  useEvents((event) => {
    if (!data.value) return
    const changed = after(data.value, event)
    if (changed) data.value = changed
    else void reload()
  }, reload)

  async function morePoints() {
    const shown = data.value
    if (!shown?.points.next) return
    const next = await answer(api.GET('/api/v1/workstations/{id}/points', { params: { path: { id: id() }, query: { most: PAGE, after: shown.points.next } } }))
    data.value = { ...shown, points: { items: [...shown.points.items, ...next.items], next: next.next } }
  }

  watch(data, (shown) => shown && setBy(shown.now))
  watch(id, () => void reload(), { immediate: true })
  return { data, problem, loading, reload, now, morePoints }
}
