/** Puts live changes into what is shown. */
import type { Job, Restore, Run, Workstation } from '../api/types'

/** The workstation with its latest run, if the run is not older than the one shown. */
export function withRun(workstation: Workstation, run: Run): Workstation {
  const shown = workstation.latest_run
  if (run.workstation !== workstation.id || (shown && shown.started > run.started)) return workstation
  return { ...workstation, latest_run: run }
}

/** A history, latest first, with one entry replaced or put in front. */
export function withEntry<T extends Run | Restore | Job>(history: T[], entry: T): T[] {
  const at = history.findIndex((e) => e.id === entry.id)
  return at < 0 ? [entry, ...history] : history.with(at, entry)
}
